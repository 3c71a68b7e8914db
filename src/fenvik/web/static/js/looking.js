// A display on the link is asked what it shows while somebody looks at this stop.
export function lookAgain() {
  const form = document.querySelector("form[data-look]");
  if (!form || document.visibilityState !== "visible") return;
  fetch(form.action, { method: "POST", body: new FormData(form), redirect: "manual" }).catch(() => {});
}
