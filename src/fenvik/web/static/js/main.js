// What a page listens to. Every concern has a module of its own, beside this one.
import { showFields } from "./blocks.js";
import { nameCells } from "./cards.js";
import { countLists } from "./counting.js";
import { dropSent, keepDraft, keepSent, restoreDraft } from "./drafts.js";
import { drawFilledIn, watchEnding } from "./ending.js";
import { chooseAgain, chosenIn, isRefused } from "./files.js";
import { broke, done, heed, missing, refused } from "./forms.js";
import { pressed } from "./keys.js";
import { Live } from "./live.js";
import { lookAgain } from "./looking.js";
import { asPng } from "./pictures.js";
import { rest } from "./resting.js";
import { say } from "./say.js";
import { sound } from "./sound.js";
import { toType } from "./typing.js";

function prepare(root) {
  nameCells(root);
  rest(root);
  for (const form of root.querySelectorAll("form[data-draft]")) restoreDraft(form);
  for (const select of root.querySelectorAll("[data-shows]")) showFields(select);
  drawFilledIn(root);
}

// What a person has opened stays open when the hand is drawn anew.
let moreIsOpen = false;
// The files of the form that is on its way.
let sent = [];

watchEnding();
document.addEventListener("keydown", pressed);
document.addEventListener("input", (event) => {
  const form = event.target.closest && event.target.closest("form[data-draft]");
  if (form) keepDraft(form);
});
document.addEventListener("change", (event) => {
  if (event.target.matches("[data-shows]")) showFields(event.target);
  const counted = event.target.closest("form[data-counts]");
  if (counted) countLists(counted);
});
document.addEventListener("toggle", (event) => {
  if (event.target.matches("details.more")) moreIsOpen = event.target.open;
}, true);
document.addEventListener("submit", (event) => keepSent(event.target));
document.addEventListener("click", (event) => {
  const tried = event.target.closest && event.target.closest("[data-sound]");
  if (tried) sound.tryOut(Number(tried.dataset.sound));
  const link = event.target.closest && event.target.closest("a[data-png]");
  if (!link) return;
  event.preventDefault();
  asPng(link).catch(() => say("the picture could not be made", 5000));
});
document.addEventListener("ajax:before", heed);
document.addEventListener("ajax:before", (event) => { sent = chosenIn(event.target); });
document.addEventListener("ajax:missing", missing);
document.addEventListener("ajax:error", refused);
document.addEventListener("ajax:success", done);
document.addEventListener("ajax:merged", () => {
  chooseAgain(sent, isRefused);
  prepare(document);
  toType(document);
});
window.addEventListener("unhandledrejection", broke);

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
      new Live(this.$root.dataset.live).watch();
    },
  }));
});

// A module runs when the page has been read.
dropSent();
prepare(document);
toType(document);
setInterval(lookAgain, 12000);
setTimeout(lookAgain, 400);
