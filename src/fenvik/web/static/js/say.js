// One line for how the page is connected, and what could not be done.
let quietAgain;
export function say(words, forMs) {
  const place = document.getElementById("link-state");
  if (!place) return;
  place.textContent = words;
  clearTimeout(quietAgain);
  if (forMs) quietAgain = setTimeout(() => { place.textContent = ""; }, forMs);
}
