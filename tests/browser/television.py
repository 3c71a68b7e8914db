"""A person with the remote of a display that is not on the link: arrow keys on the stand-in's own page."""


class Television:
    """The stand-in's page."""

    def __init__(self, context, pages, serial="OF55-0417"):
        self.page = context.new_page()
        self.page.goto(f"{pages}display/{serial}")
        self.page.wait_for_selector(".row")

    def ids(self):
        return self.page.eval_on_selector_all(".row", "rows => rows.map(row => row.dataset.control)")

    def value(self, control):
        return self.page.locator(f".row[data-control='{control}'] b").inner_text()

    def turn(self, control, wanted):
        """Walk to a control with the arrow keys and turn it until the menu shows the value."""
        self.page.bring_to_front()
        ids = self.ids()
        selected = self.page.locator(".row[aria-selected=true]").get_attribute("data-control")
        away = ids.index(control) - ids.index(selected)
        for _ in range(abs(away)):
            self.page.keyboard.press("ArrowDown" if away > 0 else "ArrowUp")
        now, wanted = self.value(control), str(wanted)
        if now.lstrip("-").isdigit():
            steps = int(wanted) - int(now)
            for _ in range(abs(steps)):
                self.page.keyboard.press("ArrowRight" if steps > 0 else "ArrowLeft")
        else:
            for _ in range(6):
                self.page.keyboard.press("ArrowLeft")
        self.page.wait_for_function(
            "([control, wanted]) => document.querySelector(`.row[data-control='${control}'] b`)?.textContent === wanted",
            arg=[control, wanted],
        )
