// The choice of lists is kept as it is ticked: whoever measures next reads what is ticked, and sees at once how many that are.
let asked = 0;

export async function countLists(form) {
  const place = document.getElementById("lists-count");
  if (!place) return;
  const mine = ++asked;
  const told = new FormData(form);
  told.delete("once"); // each tick is another thing to do, and not the same one sent twice
  const answer = await fetch(form.dataset.counts, { method: "POST", body: told, headers: { Accept: "application/json" } })
    .catch(() => null);
  if (!answer || !answer.ok || mine !== asked) return;
  place.textContent = (await answer.json()).words;
}
