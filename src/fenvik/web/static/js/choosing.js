// The pattern screen's own menu: chosen by taps or arrow keys, dim, and away after a while, so that it lights no dark room.
const AWAY_MS = 9000;

// `show(pattern, options)` shows one and says whether it did; `shown()` is what the screen shows now.
export function chooser(nav, patterns, { show, shown }) {
  let at = 0;       // the pattern that is marked
  let option = -1;  // the marked one of its options; -1: the pattern itself
  let values = {};
  let away;

  const chosen = () => patterns[at];
  function take() {
    const now = shown();
    const known = now ? patterns.findIndex((p) => p.id === now.pattern) : -1;
    if (known >= 0) at = known;
    values = known >= 0 ? { ...now.options } : {};
    option = -1;
  }
  const valueOf = (o) => String(values[o.id] ?? o.value);
  const wordsOf = (o) => {
    const choice = o.choices.find(([name]) => name === valueOf(o));
    return choice ? choice[1] : `${valueOf(o)}${o.unit}`;
  };

  function element(tag, text, marked, act) {
    const made = document.createElement(tag);
    made.textContent = text;
    if (marked) made.className = "marked";
    if (act) { made.type = "button"; made.tabIndex = -1; made.addEventListener("click", act); }
    return made;
  }

  function render() {
    nav.replaceChildren();
    let group = "";
    const list = element("ul", "");
    patterns.forEach((pattern, i) => {
      if (pattern.group !== group) list.append(element("li", group = pattern.group));
      const item = element("li", "");
      const button = element("button", pattern.name, i === at && option < 0, () => { mark(i); go(); });
      if (i === at) button.setAttribute("aria-current", "true");
      item.append(button);
      list.append(item);
    });
    const side = element("div", "");
    side.append(element("p", chosen().look));
    chosen().options.forEach((o, i) => {
      const row = element("div", "", i === option);
      row.append(element("span", o.label), element("button", "−", false, () => turn(i, -1)), element("b", wordsOf(o)),
        element("button", "+", false, () => turn(i, 1)));
      side.append(row);
    });
    nav.append(list, side);
    list.querySelector("[aria-current]").scrollIntoView({ block: "nearest" });
  }

  function mark(i) {
    if (i !== at) values = {};
    at = i;
    option = -1;
  }
  async function go() {
    stay();
    await show(chosen().id, values);
    if (!nav.hidden) render();
  }
  function turn(i, by) {
    const o = chosen().options[i];
    option = i;
    if (o.choices.length) {
      const names = o.choices.map(([name]) => name);
      values[o.id] = names[(names.indexOf(valueOf(o)) + by + names.length) % names.length];
    } else {
      const next = Math.min(Math.max(Number(valueOf(o)) + by * o.step, o.low), o.high);
      values[o.id] = String(Math.round(next * 100) / 100);
    }
    go();
  }
  function stay() {
    clearTimeout(away);
    away = setTimeout(close, AWAY_MS);
  }
  function open() { take(); nav.hidden = false; render(); stay(); }
  function close() { nav.hidden = true; clearTimeout(away); }
  function step(by) {
    take();
    mark((at + by + patterns.length) % patterns.length);
    go();
  }

  // Return whether a key was one of the menu's.
  function key(event) {
    if (event.ctrlKey || event.metaKey || event.altKey) return false;
    const { key: pressed } = event;
    const options = chosen().options.length;
    if (nav.hidden) {
      if (pressed === "ArrowRight" || pressed === "ArrowLeft") step(pressed === "ArrowRight" ? 1 : -1);
      else if (["Enter", " ", "m", "M", "ArrowUp", "ArrowDown"].includes(pressed)) open();
      else return false;
      event.preventDefault();
      return true;
    }
    stay();
    if (pressed === "Escape" || pressed === "m" || pressed === "M") close();
    else if (pressed === "ArrowDown" || pressed === "ArrowUp") {
      const by = pressed === "ArrowDown" ? 1 : -1;
      if (option >= 0) option = Math.min(Math.max(option + by, 0), options - 1);
      else mark(Math.min(Math.max(at + by, 0), patterns.length - 1));
      render();
    } else if (pressed === "ArrowRight" && option < 0 && options) { option = 0; render(); }
    else if (pressed === "ArrowRight" || pressed === "+") { if (option >= 0) turn(option, 1); }
    else if (pressed === "-") { if (option >= 0) turn(option, -1); }
    else if (pressed === "ArrowLeft") { if (option >= 0) turn(option, -1); else close(); }
    else if (pressed === "Backspace") { option = -1; render(); }
    else if (pressed === "Enter" || pressed === " ") { if (option >= 0) { option = -1; render(); } else go(); }
    else return false;
    event.preventDefault();
    return true;
  }
  return { key, toggle: () => (nav.hidden ? open() : close()) };
}
