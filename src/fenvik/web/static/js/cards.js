// On a phone a table is a stack of cards: each cell says which column it was, from the head that the styles then hide.
const CARDS = "table.list, table.differ, table.several, table.map, table.survey, table.figures.wide";

export function nameCells(root) {
  for (const table of root.querySelectorAll(CARDS)) {
    const head = table.tHead && table.tHead.rows.length === 1 ? [...table.tHead.rows[0].cells] : [];
    if (!head.length || head.some((cell) => cell.colSpan > 1)) continue;
    table.classList.add("cards");
    for (const row of table.tBodies[0] ? table.tBodies[0].rows : []) {
      [...row.cells].forEach((cell, i) => {
        if (head[i] && cell.colSpan === 1) cell.dataset.name = head[i].textContent.trim().replace(/\s+/g, " ");
      });
    }
  }
}
