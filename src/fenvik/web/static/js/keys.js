// Keys: what the page can do is in the page, and a key presses what carries its name.
import { sound } from "./sound.js";
import { turned } from "./turning.js";
import { arrows, typing } from "./typing.js";

export function pressed(event) {
  // Enter belongs to the lines of a text and to a list; with Control it sends the form wherever one is in it.
  if (event.ctrlKey && event.key === "Enter" && event.target.form) {
    const buttons = [...event.target.form.elements].filter((e) => e.matches("button:not([type=button])"));
    const send = buttons.find((e) => e.matches(".ember")) || buttons[0];
    if (send) { event.preventDefault(); send.click(); }
    return;
  }
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  const key = arrows[event.key] || event.key;
  const inField = typing(event.target);
  if (key === "Escape" && inField) { event.target.blur(); return; }
  if (inField && turned(event)) { event.preventDefault(); return; }
  // In a field the keys belong to the field; Enter sends its form as everywhere.
  if (inField) return;
  if (event.target.matches("[type=checkbox], [type=radio]") && ["Space", "↑", "↓", "←", "→"].includes(key)) return;
  if (document.querySelector("dialog[open]")) return;
  if (key === "?") { showKeys(); event.preventDefault(); return; }
  if (key === "s" && document.querySelector(".frame")) { sound.toggle(); return; }
  if ((key === "←" || key === "→") && chooseControl(key === "→" ? 1 : -1)) { event.preventDefault(); return; }
  // A focused link or button takes Enter and Space for itself.
  if ((key === "Enter" || key === "Space") && event.target.matches("a, button, summary")) return;
  const place = document.querySelector(`[data-focus-key="${CSS.escape(key)}"]`);
  if (place) {
    place.focus();
    if (place.select) place.select();
    event.preventDefault();
    return;
  }
  const target = [...document.querySelectorAll("[data-key]")].find((e) => e.dataset.key === key && e.offsetParent !== null);
  if (target) { event.preventDefault(); target.click(); }
}

export function chooseControl(by) {
  const controls = [...document.querySelectorAll("[data-control]")];
  if (!controls.length) return false;
  const at = controls.indexOf(document.activeElement);
  const next = controls[(at + by + controls.length) % controls.length] || controls[0];
  next.focus();
  if (next.select) next.select();
  return true;
}

export function showKeys() {
  const list = document.getElementById("keys-list");
  list.replaceChildren();
  const rows = [...document.querySelectorAll("[data-key], [data-focus-key]")]
    .filter((e) => e.offsetParent !== null)
    .map((e) => [e.dataset.key || e.dataset.focusKey, e.dataset.keyName || e.textContent.trim()]);
  if (document.querySelector("[data-control]")) rows.push(["← →", "the control"]);
  if (document.querySelector(".frame")) rows.push(["s", sound.on ? "sound off" : "sound on"]);
  rows.push(["?", "these keys"]);
  for (const [key, name] of rows) {
    const dt = document.createElement("dt");
    const kbd = document.createElement("kbd");
    kbd.textContent = key;
    dt.append(kbd);
    const dd = document.createElement("dd");
    dd.textContent = name;
    list.append(dt, dd);
  }
  document.getElementById("keys").showModal();
}
