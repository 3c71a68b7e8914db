// Keys, live fragments and sound. What the page can do is in the page: a key presses what carries its name.
"use strict";

const arrows = { ArrowUp: "↑", ArrowDown: "↓", ArrowLeft: "←", ArrowRight: "→", " ": "Space" };

function typing(element) {
  return element && element.matches("input:not([type=hidden]), textarea, select");
}

function pressed(event) {
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  const key = arrows[event.key] || event.key;
  const inField = typing(event.target);
  if (key === "Escape" && inField) { event.target.blur(); return; }
  // In a field the keys belong to the field; Enter sends its form as everywhere.
  if (inField) return;
  if (document.querySelector("dialog[open]")) return;
  if (key === "?") { showKeys(); event.preventDefault(); return; }
  if (key === "s" && document.querySelector(".frame")) { sound.toggle(); return; }
  if (key === "←" || key === "→") {
    if (chooseControl(key === "→" ? 1 : -1)) event.preventDefault();
    return;
  }
  // A focused link or button takes Enter and Space for itself.
  if ((key === "Enter" || key === "Space") && event.target.matches("a, button, summary")) return;
  const place = document.querySelector(`[data-focus-key="${CSS.escape(key)}"]`);
  if (place) { place.focus(); place.select(); event.preventDefault(); return; }
  const target = [...document.querySelectorAll("[data-key]")].find((e) => e.dataset.key === key && e.offsetParent !== null);
  if (target) { event.preventDefault(); target.click(); }
}

function chooseControl(by) {
  const controls = [...document.querySelectorAll("[data-control]")];
  if (!controls.length) return false;
  const at = controls.indexOf(document.activeElement);
  const next = controls[(at + by + controls.length) % controls.length] || controls[0];
  next.focus();
  next.select();
  return true;
}

function showKeys() {
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

// Sound, off until wanted: a tick as a reading ends; a tone that falls with the error and is silent within tolerance.
const sound = {
  on: false,
  context: null,
  newest: null,
  toggle() {
    this.on = !this.on;
    if (this.on && !this.context) this.context = new AudioContext();
    say(this.on ? "sound on" : "sound off", 1500);
  },
  heard(hand) {
    const row = hand.querySelector("[data-reading]");
    const id = row && row.dataset.reading;
    if (!id || id === this.newest) return;
    const first = this.newest === null;
    this.newest = id;
    if (first || !this.on) return;
    const big = hand.querySelector("[data-error]");
    const error = big ? Number(big.dataset.error) : 0;
    if (big && error > Number(big.dataset.tolerance)) this.tone(220 * 2 ** Math.min(error / 3, 2.5), 0.16);
    else this.tone(1100, 0.012);
  },
  tone(hertz, seconds) {
    const at = this.context.currentTime;
    const gain = this.context.createGain();
    gain.gain.setValueAtTime(0.05, at);
    gain.gain.exponentialRampToValueAtTime(0.0001, at + seconds);
    const oscillator = this.context.createOscillator();
    oscillator.frequency.value = hertz;
    oscillator.connect(gain).connect(this.context.destination);
    oscillator.start(at);
    oscillator.stop(at + seconds);
  },
};

let quietAgain;
function say(words, forMs) {
  const place = document.getElementById("link-state");
  if (!place) return;
  place.textContent = words;
  clearTimeout(quietAgain);
  if (forMs) quietAgain = setTimeout(() => { place.textContent = ""; }, forMs);
}

// What a person is typing is never taken away from them.
function busyIn(element) {
  const active = document.activeElement;
  if (active && element.contains(active) && typing(active)) return true;
  return [...element.querySelectorAll("input:not([type=hidden])")].some((i) => i.value !== i.defaultValue);
}

// What is the same but for tokens is left alone: a button must not vanish under a finger.
function bare(element) {
  return element.innerHTML
    .replace(/name="(csrfmiddlewaretoken|group)" value="[^"]*"/g, "")
    .replace(/ (open|aria-disabled|aria-busy|data-source)="[^"]*"/g, "");
}

function put(id, html) {
  const old = document.getElementById(id);
  if (!old || busyIn(old)) return;
  const holder = document.createElement("template");
  holder.innerHTML = html.trim();
  const fresh = holder.content.getElementById(id);
  if (!fresh || bare(fresh) === bare(old)) return;
  const focusKey = document.activeElement && old.contains(document.activeElement) ? document.activeElement.dataset.key : null;
  old.replaceWith(fresh);
  if (focusKey) {
    const again = fresh.querySelector(`[data-key="${CSS.escape(focusKey)}"]`);
    if (again) again.focus({ preventScroll: true });
  }
  if (id === "hand") sound.heard(fresh);
}

function follow(address) {
  const stream = new EventSource(address);
  stream.addEventListener("fragments", (event) => {
    say("");
    const fragments = JSON.parse(event.data);
    for (const [id, html] of Object.entries(fragments)) put(id, html);
    document.documentElement.dataset.shown = String(performance.timeOrigin + performance.now());
  });
  stream.addEventListener("error", () => {
    if (stream.readyState === EventSource.CLOSED) {
      say("not connected: reload this page to go on; nothing that was read is lost");
      // The server is being started again, or the session has ended: try the whole stream anew.
      setTimeout(() => { stream.close(); follow(address); }, 1500);
    } else {
      say("connecting again");
    }
  });
  window.addEventListener("pagehide", () => stream.close(), { once: true });
}

// What a person has opened stays open when the hand is drawn anew.
let moreIsOpen = false;
document.addEventListener("toggle", (event) => {
  if (event.target.matches("details.more")) moreIsOpen = event.target.open;
}, true);

document.addEventListener("keydown", pressed);
// The answer to a form may be another page than this one: then it is opened as a page.
document.addEventListener("ajax:missing", (event) => {
  event.preventDefault();
  const { ok, url } = event.detail.response;
  if (ok) window.location.assign(url);
});
document.addEventListener("ajax:error", () => say("the server could not do that; nothing was lost, try again", 8000));

document.addEventListener("alpine:init", () => {
  Alpine.data("page", () => ({}));
  Alpine.data("more", () => ({
    init() {
      if (moreIsOpen) this.$root.open = true;
    },
  }));
  Alpine.data("frame", () => ({
    init() {
      const hand = document.getElementById("hand");
      if (hand) sound.heard(hand);
      follow(this.$root.dataset.live);
    },
  }));
});
