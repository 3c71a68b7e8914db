// What is being typed is kept in this browser until the server has it: a lost connection or a closed lid costs nothing.
export const draftOf = (form) => `fenvik ${form.dataset.draft}`;
const fieldsOf = (form) => [...form.querySelectorAll("input:not([type=hidden], [type=file]), select, textarea")].filter((f) => f.name);
const plain = (field) => (field.type === "checkbox" ? field.checked : field.value);

export function keepDraft(form) {
  const values = Object.fromEntries(fieldsOf(form).map((f) => [f.name, plain(f)]));
  try {
    localStorage.setItem(draftOf(form), JSON.stringify({ of: form.dataset.draftOf, at: Date.now(), values }));
  } catch { /* private windows may have no room: the form itself still holds everything */ }
}

export function restoreDraft(form) {
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

export function dropDraft(form) {
  try { localStorage.removeItem(draftOf(form)); } catch { /* nothing was kept */ }
}

// A form that is on its way: where it stands, and what is typed in it.
const SENT = "fenvik sent";
const formsLike = (action) => [...document.querySelectorAll("form[method=post]")].filter((form) => form.action === action);

export function keepSent(form) {
  if (form.method !== "post" || document.querySelector("[data-sign-in]")) return;
  const fields = fieldsOf(form).map((f) => ({ name: f.name, value: f.value, checked: Boolean(f.checked), secret: f.type === "password" }));
  const typed = fields.filter((f) => !f.secret);
  // What stays on its page says itself when its draft is stored.
  const draft = form.dataset.draft && !form.hasAttribute("x-target") ? draftOf(form) : "";
  const sent = { draft, action: form.action, nth: formsLike(form.action).indexOf(form), typed };
  try { sessionStorage.setItem(SENT, JSON.stringify(sent)); } catch { /* no room: the server says what became of it */ }
}

// A form that left its page is stored once a page has come that is without it and does not say otherwise: an error page of the browser
// does not get here, a sign-in is on the way back to the form, and a notice may ask for what was typed to be filled in again.
export function dropSent() {
  let sent = null;
  try { sent = JSON.parse(sessionStorage.getItem(SENT)); } catch { sent = null; }
  if (!sent) return;
  const unsent = Boolean(document.querySelector(".notice.unsent"));
  if (document.querySelector("[data-sign-in]")) {
    sessionStorage.setItem(SENT, JSON.stringify({ ...sent, unsent: sent.unsent || unsent }));
    return;
  }
  sessionStorage.removeItem(SENT);
  if (unsent || sent.unsent) fillIn(sent);
  else if (sent.draft && ![...document.querySelectorAll("form[data-draft]")].some((form) => draftOf(form) === sent.draft)) {
    localStorage.removeItem(sent.draft);
  }
}

function fillIn({ action, nth, typed }) {
  const form = formsLike(action)[nth];
  if (!form) return;
  const fields = fieldsOf(form).filter((f) => f.type !== "password");
  for (const [at, field] of fields.entries()) {
    const kept = typed[at];
    if (!kept || kept.name !== field.name) return; // another form than was sent
    if (["checkbox", "radio"].includes(field.type)) field.checked = kept.checked; else field.value = kept.value;
  }
}
