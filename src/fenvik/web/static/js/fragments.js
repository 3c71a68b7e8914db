// Fragments of a stop as they come: put in where they changed, and never under a person's hands.
import { chooseAgain, chosenIn } from "./files.js";
import { rest } from "./resting.js";
import { sound } from "./sound.js";
import { busy, toType } from "./typing.js";

// What a person is typing is never taken away from them.
export function busyIn(element, fresh) {
  const active = document.activeElement;
  if (element.querySelector("form[data-counting]")) return true;
  // A pass asks for the next value: the field of the one before is empty, so nothing is taken away.
  const asks = element.querySelector("[data-asks]");
  if (asks && fresh && active && asks.contains(active) && active.value === "") {
    const next = fresh.querySelector("[data-asks]");
    if (!next || next.dataset.asks !== asks.dataset.asks) return false;
  }
  if (active && element.contains(active) && busy(active)) return true;
  // A tick is as good as a word; where ticks are kept as they are made there is nothing to lose.
  const ticked = (i) => i.checked !== i.defaultChecked && !(i.form && i.form.dataset.counts);
  return [...element.querySelectorAll("input:not([type=hidden], [type=file])")].some((i) => i.value !== i.defaultValue || ticked(i));
}

// What is the same but for tokens is left alone: a button must not vanish under a finger.
export function bare(element) {
  return element.innerHTML
    .replace(/name="(csrfmiddlewaretoken|group|once)" value="[^"]*"/g, "")
    .replace(/ (open|aria-disabled|aria-busy|data-source)="[^"]*"/g, "");
}

const formOf = (problem) => problem.closest("form") || (problem.previousElementSibling?.matches("form") ? problem.previousElementSibling : null);

// What was refused was said to this page alone: news of anything else does not take that away, but for a value that is no longer asked.
export function keepProblems(old, fresh) {
  const asks = (element) => element.querySelector("[data-asks]")?.dataset.asks;
  if (fresh.querySelector(".problem") || asks(old) !== asks(fresh)) return;
  for (const problem of old.querySelectorAll(".problem")) {
    const action = formOf(problem)?.getAttribute("action");
    const form = action && [...fresh.querySelectorAll("form")].find((f) => f.getAttribute("action") === action);
    if (form) form.after(problem);
  }
}

export function put(id, html) {
  const old = document.getElementById(id);
  if (!old) return;
  const holder = document.createElement("template");
  holder.innerHTML = html.trim();
  const fresh = holder.content.getElementById(id);
  if (!fresh || bare(fresh) === bare(old) || busyIn(old, fresh)) return;
  const focusKey = document.activeElement && old.contains(document.activeElement) ? document.activeElement.dataset.key : null;
  keepProblems(old, fresh);
  const chosen = chosenIn(old);
  old.replaceWith(fresh);
  chooseAgain(chosen);
  if (focusKey) {
    const again = fresh.querySelector(`[data-key="${CSS.escape(focusKey)}"]`);
    if (again) again.focus({ preventScroll: true });
  }
  if (id === "hand") { sound.heard(fresh); rest(fresh); }
  toType(fresh);
}
