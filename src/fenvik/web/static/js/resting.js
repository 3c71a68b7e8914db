// While an eye rests, what comes next waits a while: its button says how long, and presses itself. A key or a click ends the rest.
export function rest(root) {
  const place = root.querySelector("[data-after]");
  if (!place || place.dataset.begun) return;
  place.dataset.begun = "1";
  const words = place.textContent;
  let left = Number(place.dataset.after);
  const tick = () => {
    if (!place.isConnected) return;
    if (left <= 0) {
      const next = place.parentElement.querySelector("button[data-key=Enter]");
      if (next) next.click();
      return;
    }
    place.textContent = `${words} ${left} s`;
    left -= 1;
    setTimeout(tick, 1000);
  };
  tick();
}
