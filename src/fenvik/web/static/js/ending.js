// How PQ ends, drawn while it is chosen: a change of a field is drawn anew, and arrow keys move its points.
const STEP = 0.005;
const FINE = 0.001;
const ARROWS = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowDown: [0, -1], ArrowUp: [0, 1] };

export function pointsOf(text) {
  const points = text.trim().split(/[\s;]+/).filter(Boolean).map((pair) => pair.split(":").map((v) => Number(v.replace(",", "."))));
  return points.every((p) => p.length === 2 && p.every(Number.isFinite)) ? points : [];
}

export function written(points) {
  return points.map((p) => p.map((v) => String(Math.round(v * 1e5) / 1e5)).join(":")).join(" ");
}

// A point stays between its neighbours, for points rise in both numbers.
export function moved(points, number, across, up) {
  const made = points.map((p) => [...p]);
  [across, up].forEach((by, axis) => {
    const low = number > 0 ? made[number - 1][axis] + FINE : 0;
    const high = number + 1 < made.length ? made[number + 1][axis] - FINE : 1;
    made[number][axis] = Math.min(Math.max(made[number][axis] + by, low), high);
  });
  return made;
}

export class Ending {
  constructor(root) {
    this.root = root;
    this.asked = null;
  }

  field(name) {
    return this.root.querySelector(`[name=${name}]`);
  }

  // The newest answer counts: an earlier one that is still under way is let go.
  async draw(focus) {
    if (this.asked) this.asked.abort();
    this.asked = new AbortController();
    const told = new URLSearchParams([...this.root.querySelectorAll("input, select")].map((f) => [f.name, f.value]));
    try {
      const answer = await fetch(`${this.root.dataset.ending}?${told}`, { signal: this.asked.signal });
      if (!answer.ok) return;
      const holder = document.createElement("template");
      holder.innerHTML = (await answer.text()).trim();
      const old = this.root.querySelector("#ending");
      old.replaceWith(holder.content.querySelector("#ending"));
      const knee = focus === undefined ? null : this.root.querySelector(`[data-knee="${focus}"]`);
      if (knee) knee.focus({ preventScroll: true });
    } catch (problem) {
      if (problem.name !== "AbortError") throw problem;
    }
  }

  changed(event) {
    const points = this.field("knees");
    if (event.target.name === "roll_off" && event.target.value === "points" && points.value.trim() === "") {
      points.value = this.root.querySelector("#ending").dataset.start || "";
    }
    this.draw();
  }

  // Whether a key moved a point.
  pressed(event) {
    const arrow = ARROWS[event.key];
    const knee = event.target.closest && event.target.closest("[data-knee]");
    if (!arrow || !knee || event.ctrlKey || event.metaKey || event.altKey) return false;
    const number = Number(knee.dataset.knee);
    const field = this.field("knees");
    const typed = pointsOf(field.value || this.root.querySelector("#ending").dataset.start || "");
    if (number >= typed.length) return false;
    const step = event.shiftKey ? FINE : STEP;
    field.value = written(moved(typed, number, arrow[0] * step, arrow[1] * step));
    field.dispatchEvent(new Event("input", { bubbles: true }));
    this.draw(number);
    return true;
  }
}

const known = new WeakMap();
function ending(target) {
  const root = target.closest && target.closest("[data-ending]");
  if (!root) return null;
  if (!known.has(root)) known.set(root, new Ending(root));
  return known.get(root);
}

// What a draft filled in is drawn too.
export function drawFilledIn(root) {
  for (const place of root.querySelectorAll("[data-ending]")) {
    const differs = (f) => (f.matches("select") ? !f.selectedOptions[0].defaultSelected : f.value !== f.defaultValue);
    if ([...place.querySelectorAll("input, select")].some(differs)) ending(place).draw();
  }
}

export function watchEnding() {
  document.addEventListener("change", (event) => {
    const here = ending(event.target);
    if (here) here.changed(event);
  });
  document.addEventListener("keydown", (event) => {
    const here = ending(event.target);
    if (!here || !here.pressed(event)) return;
    event.preventDefault();
    event.stopImmediatePropagation();
  });
}
