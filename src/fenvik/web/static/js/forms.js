// Forms whose answer is put into the page that they were sent from.
import { dropDraft } from "./drafts.js";
import { chosenIn } from "./files.js";
import { say } from "./say.js";

// An act whose answer is shown at another address than this one names that address instead of sending its page.
export function goesTo(response) {
  return response && response.headers ? new Headers(response.headers).get("X-Fenvik-Go") : null;
}

// A form that stays where it is may be sent again on purpose.
export function newKey(form) {
  const field = form.querySelector("[name=once]");
  if (field) field.value = [...crypto.getRandomValues(new Uint8Array(16))].map((byte) => byte.toString(16).padStart(2, "0")).join("");
}

// What browsers say of a request that found no line. Any other TypeError is a mistake in a script, and is none of the line's.
const NO_LINE = /failed to fetch|networkerror|load failed|network connection/i;
export function isLine(reason) {
  return reason instanceof TypeError && NO_LINE.test(reason.message);
}

// The answer to a form may be another page than this one: then it is opened as a page.
export function missing(event) {
  event.preventDefault();
  const { ok, url } = event.detail.response;
  if (goesTo(event.detail.response)) return; // it is on its way there
  if (ok) window.location.assign(url);
}

export function refused(event) {
  const go = goesTo(event.detail) || goesTo(event.detail.response);
  if (go) { window.location.assign(go); return; } // somebody has signed in since: the page is opened anew
  // A form that was refused comes back with its reason where it was typed.
  if ((event.detail.status || (event.detail.response || {}).status) === 422) return;
  say("the server could not do that; nothing was lost, try again", 8000);
}

// The line is gone: the form stays as it is, and what was typed is kept.
export function broke(event) {
  if (!isLine(event.reason)) return;
  event.preventDefault();
  const files = chosenIn(document).length ? "; a file that has changed since it was chosen is to be chosen again" : "";
  say(`not connected: what you typed is kept here; try again when the line is back${files}`, 15000);
}

export function done(event) {
  const go = goesTo(event.detail);
  if (go) window.location.assign(go);
  const form = event.target.closest && event.target.closest("form[data-draft]");
  if (form) dropDraft(form);
  if (event.target.matches && event.target.matches("form")) newKey(event.target);
}

// News may take a form away while its answer is on the way. What is told to it then reaches no document, so it is heard by itself.
const heeded = new WeakSet();
export function heed(event) {
  const form = event.target;
  if (heeded.has(form)) return;
  heeded.add(form);
  const told = { "ajax:success": done, "ajax:missing": missing, "ajax:error": refused };
  for (const [name, act] of Object.entries(told)) {
    form.addEventListener(name, (event) => form.isConnected || act(event));
  }
}
