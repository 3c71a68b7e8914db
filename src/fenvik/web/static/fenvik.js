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
  if (inField && turned(event)) { event.preventDefault(); return; }
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
  if (place) {
    place.focus();
    if (place.select) place.select();
    event.preventDefault();
    return;
  }
  const target = [...document.querySelectorAll("[data-key]")].find((e) => e.dataset.key === key && e.offsetParent !== null);
  if (target) { event.preventDefault(); target.click(); }
}

// In a field that holds a control's value, up and down turn it by its step; Enter walks on through a sheet.
function turned(event) {
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

// What is being typed is kept in this browser until the server has it: a lost connection or a closed lid costs nothing.
const draftOf = (form) => `fenvik ${form.dataset.draft}`;
const fieldsOf = (form) => [...form.querySelectorAll("input:not([type=hidden], [type=file]), select, textarea")].filter((f) => f.name);
const plain = (field) => (field.type === "checkbox" ? field.checked : field.value);

function keepDraft(form) {
  const values = Object.fromEntries(fieldsOf(form).map((f) => [f.name, plain(f)]));
  try {
    localStorage.setItem(draftOf(form), JSON.stringify({ of: form.dataset.draftOf, at: Date.now(), values }));
  } catch { /* private windows may have no room: the form itself still holds everything */ }
}

function restoreDraft(form) {
  let draft = null;
  try { draft = JSON.parse(localStorage.getItem(draftOf(form))); } catch { draft = null; }
  // A sheet that was stored has another number: what was typed before it is no draft any more.
  if (!draft || draft.of !== form.dataset.draftOf || Date.now() - draft.at > 7 * 864e5) { dropDraft(form); return; }
  let differs = false;
  for (const field of fieldsOf(form)) {
    const kept = draft.values[field.name];
    if (kept === undefined || kept === plain(field)) continue;
    differs = true;
    if (field.type === "checkbox") field.checked = kept; else field.value = kept;
  }
  if (!differs) return;
  const place = document.getElementById("notices");
  if (place && !place.textContent) {
    const words = document.createElement("p");
    words.className = "notice";
    const time = new Date(draft.at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" });
    words.textContent = `What was typed here at ${time} and not stored is filled in again.`;
    const drop = document.createElement("button");
    drop.className = "plain";
    drop.type = "button";
    drop.textContent = "Drop it";
    drop.addEventListener("click", () => { dropDraft(form); window.location.reload(); });
    words.append(" ", drop);
    place.append(words);
  }
}

function dropDraft(form) {
  try { localStorage.removeItem(draftOf(form)); } catch { /* nothing was kept */ }
}

document.addEventListener("input", (event) => {
  const form = event.target.closest && event.target.closest("form[data-draft]");
  if (form) keepDraft(form);
});

// A block of a menu shows the fields that it needs.
function showFields(select) {
  for (const entry of select.form.querySelectorAll("[data-for]")) entry.hidden = !entry.dataset.for.split(" ").includes(select.value);
}
document.addEventListener("change", (event) => {
  if (event.target.matches("[data-shows]")) showFields(event.target);
});

function prepare(root) {
  for (const select of root.querySelectorAll("[data-shows]")) showFields(select);
  for (const form of root.querySelectorAll("form[data-draft]")) restoreDraft(form);
}

function chooseControl(by) {
  const controls = [...document.querySelectorAll("[data-control]")];
  if (!controls.length) return false;
  const at = controls.indexOf(document.activeElement);
  const next = controls[(at + by + controls.length) % controls.length] || controls[0];
  next.focus();
  if (next.select) next.select();
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
function busyIn(element, fresh) {
  const active = document.activeElement;
  // A pass asks for the next value: the field of the one before is empty, so nothing is taken away.
  const asks = element.querySelector("[data-asks]");
  if (asks && fresh && active && asks.contains(active) && active.value === "") {
    const next = fresh.querySelector("[data-asks]");
    if (!next || next.dataset.asks !== asks.dataset.asks) return false;
  }
  if (active && element.contains(active) && typing(active)) return true;
  return [...element.querySelectorAll("input:not([type=hidden])")].some((i) => i.value !== i.defaultValue);
}

// What is the same but for tokens is left alone: a button must not vanish under a finger.
function bare(element) {
  return element.innerHTML
    .replace(/name="(csrfmiddlewaretoken|group|once)" value="[^"]*"/g, "")
    .replace(/ (open|aria-disabled|aria-busy|data-source)="[^"]*"/g, "");
}

function put(id, html) {
  const old = document.getElementById(id);
  if (!old) return;
  const holder = document.createElement("template");
  holder.innerHTML = html.trim();
  const fresh = holder.content.getElementById(id);
  if (!fresh || bare(fresh) === bare(old) || busyIn(old, fresh)) return;
  const focusKey = document.activeElement && old.contains(document.activeElement) ? document.activeElement.dataset.key : null;
  old.replaceWith(fresh);
  if (focusKey) {
    const again = fresh.querySelector(`[data-key="${CSS.escape(focusKey)}"]`);
    if (again) again.focus({ preventScroll: true });
  }
  if (id === "hand") sound.heard(fresh);
  toType(fresh);
}

// Where a value is wanted, it can be typed at once.
function toType(root) {
  const field = root.querySelector("[data-autofocus]");
  if (!field || typing(document.activeElement)) return;
  field.focus({ preventScroll: true });
  field.select();
}

function follow(address) {
  const stream = new EventSource(address);
  stream.addEventListener("fragments", (event) => {
    say("");
    const fragments = JSON.parse(event.data);
    for (const [id, html] of Object.entries(fragments)) put(id, html);
    document.documentElement.dataset.shown = String(performance.timeOrigin + performance.now());
  });
  stream.addEventListener("trouble", (event) => say(JSON.parse(event.data)));
  stream.addEventListener("ended", () => {
    stream.close();
    window.location.reload(); // to the sign-in; what was typed is kept as a draft
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
// An act whose answer is shown at another address than this one names that address instead of sending its page.
function goesTo(response) {
  return response.headers && new Headers(response.headers).get("X-Fenvik-Go");
}
// The answer to a form may be another page than this one: then it is opened as a page.
document.addEventListener("ajax:missing", (event) => {
  event.preventDefault();
  const { ok, url } = event.detail.response;
  if (goesTo(event.detail.response)) return; // it is on its way there
  if (ok) window.location.assign(url);
});
document.addEventListener("ajax:error", (event) => {
  // A form that was refused comes back with its reason where it was typed.
  if ((event.detail.status || (event.detail.response || {}).status) === 422) return;
  say("the server could not do that; nothing was lost, try again", 8000);
});
// The line is gone: the form stays as it is, and what was typed is kept.
window.addEventListener("unhandledrejection", (event) => {
  if (event.reason instanceof TypeError) {
    event.preventDefault();
    say("not connected: what you typed is kept here; try again when the line is back", 15000);
  }
});
document.addEventListener("ajax:success", (event) => {
  const go = goesTo(event.detail);
  if (go) window.location.assign(go);
  const form = event.target.closest && event.target.closest("form[data-draft]");
  if (form) dropDraft(form);
  // A form that stays where it is may be sent again on purpose.
  if (event.target.matches && event.target.matches("form")) newKey(event.target);
});
function newKey(form) {
  const field = form.querySelector("[name=once]");
  if (field) field.value = [...crypto.getRandomValues(new Uint8Array(16))].map((byte) => byte.toString(16).padStart(2, "0")).join("");
}
document.addEventListener("ajax:merged", () => {
  prepare(document);
  toType(document);
});
document.addEventListener("submit", (event) => {
  const form = event.target;
  if (form.dataset.draft && !form.hasAttribute("x-target")) sessionStorage.setItem("fenvik sent", draftOf(form));
});
// A form that left its page is stored once a page without it has come: an error page of the browser does not get here.
function dropSent() {
  const sent = sessionStorage.getItem("fenvik sent");
  if (!sent) return;
  if (![...document.querySelectorAll("form[data-draft]")].some((form) => draftOf(form) === sent)) localStorage.removeItem(sent);
  sessionStorage.removeItem("fenvik sent");
}
document.addEventListener("DOMContentLoaded", dropSent);
document.addEventListener("DOMContentLoaded", () => {
  prepare(document);
  toType(document);
});

// A chart as a picture of pixels: drawn from its file, twice as fine as on the screen.
async function asPng(link) {
  const answer = await fetch(link.href);
  if (!answer.ok) return;
  const text = await answer.text();
  const [, , width, height] = text.match(/viewBox="([\d.]+) ([\d.]+) ([\d.]+) ([\d.]+)"/).slice(1).map(Number);
  const sized = text.replace("<svg ", `<svg width="${width}" height="${height}" `);
  const picture = new Image();
  picture.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(sized)}`;
  await picture.decode();
  const canvas = document.createElement("canvas");
  canvas.width = width * 2;
  canvas.height = height * 2;
  canvas.getContext("2d").drawImage(picture, 0, 0, canvas.width, canvas.height);
  const file = document.createElement("a");
  file.download = link.pathname.split("/").pop().replace(/svg$/, "png");
  file.href = canvas.toDataURL("image/png");
  file.click();
}
document.addEventListener("click", (event) => {
  const link = event.target.closest && event.target.closest("a[data-png]");
  if (!link) return;
  event.preventDefault();
  asPng(link).catch(() => say("the picture could not be made", 5000));
});

// A display on the link is asked what it shows while somebody looks at this stop.
function lookAgain() {
  const form = document.querySelector("form[data-look]");
  if (form && document.visibilityState === "visible") fetch(form.action, { method: "POST", body: new FormData(form), redirect: "manual" }).catch(() => {});
}
setInterval(lookAgain, 12000);
document.addEventListener("DOMContentLoaded", () => setTimeout(lookAgain, 400));

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
