// What a person is typing in, and what keys are called.
export const arrows = { ArrowUp: "↑", ArrowDown: "↓", ArrowLeft: "←", ArrowRight: "→", " ": "Space" };

// Whether a person's hands are in a field.
export function busy(element) {
  return Boolean(element && element.matches("input:not([type=hidden]), textarea, select"));
}
// Whether keys belong to it: a box to tick takes none but its own.
export function typing(element) {
  return busy(element) && !element.matches("[type=checkbox], [type=radio]");
}

// Where a value is wanted, it can be typed at once.
export function toType(root) {
  const field = root.querySelector("[data-autofocus]");
  if (!field || typing(document.activeElement)) return;
  field.focus({ preventScroll: true });
  field.select();
}
