// What a person is typing in, and what keys are called.
export const arrows = { ArrowUp: "↑", ArrowDown: "↓", ArrowLeft: "←", ArrowRight: "→", " ": "Space" };

export function typing(element) {
  return Boolean(element && element.matches("input:not([type=hidden]), textarea, select"));
}

// Where a value is wanted, it can be typed at once.
export function toType(root) {
  const field = root.querySelector("[data-autofocus]");
  if (!field || typing(document.activeElement)) return;
  field.focus({ preventScroll: true });
  field.select();
}
