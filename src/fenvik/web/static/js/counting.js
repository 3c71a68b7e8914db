// The choice of lists is kept as it is ticked: whoever measures next reads what is ticked, and sees at once how many that are.
let asked = 0;
let before = Promise.resolve();

// One after the other, and of several that wait the last alone: what is kept must not be an earlier tick that came late. Until then
// the form is not put in anew, for what the server has of it is older.
export function countLists(form) {
  const mine = ++asked;
  form.dataset.counting = "1";
  before = before.then(async () => {
    if (mine !== asked) return;
    await send(form, mine);
    if (mine === asked) delete form.dataset.counting;
  });
  return before;
}

async function send(form, mine) {
  const place = document.getElementById("lists-count");
  if (!place) return;
  const told = new FormData(form);
  told.delete("once"); // each tick is another thing to do, and not the same one sent twice
  const answer = await fetch(form.dataset.counts, { method: "POST", body: told, headers: { Accept: "application/json" } })
    .catch(() => null);
  if (!answer || !answer.ok || mine !== asked) return;
  place.textContent = (await answer.json()).words;
}
