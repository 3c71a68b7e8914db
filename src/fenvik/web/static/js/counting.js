// The choice of lists: how many patches and how long, at once as they are ticked and not only when they are kept.
let asked = 0;

export async function countLists(form) {
  const place = document.getElementById("lists-count");
  if (!place) return;
  const mine = ++asked;
  const answer = await fetch(form.dataset.counts, { method: "POST", body: new FormData(form), headers: { Accept: "application/json" } })
    .catch(() => null);
  if (!answer || !answer.ok || mine !== asked) return;
  place.textContent = (await answer.json()).words;
}
