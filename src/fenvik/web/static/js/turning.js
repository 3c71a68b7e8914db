// Turning a value in its field, and walking on through a sheet.
// In a field that holds a control's value, up and down turn it by its step; Enter walks on through a sheet.
export function turned(event) {
  const field = event.target;
  if (field.dataset.turn && (event.key === "ArrowUp" || event.key === "ArrowDown")) {
    const [step, low, high] = [field.dataset.turn, field.dataset.low, field.dataset.high].map(Number);
    const now = Number(field.value.replace("−", "-").replace(",", "."));
    const by = (event.key === "ArrowUp" ? 1 : -1) * step * (event.shiftKey ? 5 : 1);
    const wanted = Math.min(Math.max((Number.isFinite(now) && field.value !== "" ? now : low) + by, low), high);
    field.value = String(Math.round(wanted * 1e6) / 1e6);
    field.dispatchEvent(new Event("input", { bubbles: true }));
    return true;
  }
  const form = field.closest("form[data-walk]");
  if (event.key !== "Enter" || !form || field.matches("textarea")) return false;
  const fields = [...form.querySelectorAll("input:not([type=hidden]), select")];
  const next = fields[fields.indexOf(field) + 1];
  if (next && !event.shiftKey) {
    next.focus();
    if (next.select) next.select();
    return true;
  }
  const send = document.querySelector(`button[form="${form.id}"]`);
  if (send) send.click();
  return true;
}
