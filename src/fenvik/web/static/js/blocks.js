// A block of a menu shows the fields that it needs.
export function showFields(select) {
  for (const entry of select.form.querySelectorAll("[data-for]")) entry.hidden = !entry.dataset.for.split(" ").includes(select.value);
}
