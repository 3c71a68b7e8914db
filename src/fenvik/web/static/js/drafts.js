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

// A form that left its page is stored once a page without it has come: an error page of the browser does not get here.
export function dropSent() {
  const sent = sessionStorage.getItem("fenvik sent");
  if (!sent) return;
  if (![...document.querySelectorAll("form[data-draft]")].some((form) => draftOf(form) === sent)) localStorage.removeItem(sent);
  sessionStorage.removeItem("fenvik sent");
}
