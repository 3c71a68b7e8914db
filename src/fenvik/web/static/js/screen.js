// The pattern screen: draws exact code values, follows the visit, says what it has drawn.
import { chooser } from "./choosing.js";

const address = document.body.dataset.address;
const canvas = document.getElementById("picture");
const pen = canvas.getContext("2d", { alpha: false, colorSpace: "srgb" });
const who = document.getElementById("who");
let state = null;
let exact = false;
let lock = null;
let drawing = 0;
let drawn = 0; // the revision that is on the screen, and nothing that is still on its way
let background = null;

const colour = ([r, g, b]) => `rgb(${r}, ${g}, ${b})`;
const pixel = (share, count) => Math.floor(share * count + 0.5);

function fill(rgb, left, top, right, bottom) {
  pen.fillStyle = colour(rgb);
  pen.fillRect(left, top, right - left, bottom - top);
}

function drawPatch(picture) {
  const { width, height } = canvas;
  fill(picture.surround.length ? picture.surround : picture.black, 0, 0, width, height);
  const side = Math.sqrt(picture.window / 100);
  const [x, y] = picture.at.map((at) => Math.min(Math.max(at, side / 2), 1 - side / 2));
  fill(picture.rgb, pixel(x - side / 2, width), pixel(y - side / 2, height), pixel(x + side / 2, width), pixel(y + side / 2, height));
}

async function drawPattern() {
  const answer = await fetch(`${address}picture.png?w=${canvas.width}&h=${canvas.height}&r=${state.revision}`);
  if (!answer.ok) throw new Error("no picture");
  // Neither a profile nor alpha may touch a code value on its way.
  return createImageBitmap(await answer.blob(), { colorSpaceConversion: "none", premultiplyAlpha: "none" });
}

async function draw() {
  if (!state || !canvas.width) return;
  const mine = ++drawing;
  drawn = 0;
  const { picture, revision } = state;
  if (picture.kind === "patch") {
    background = null;
    drawPatch(picture);
  } else if (picture.kind === "pattern") {
    try {
      const made = await drawPattern();
      if (mine !== drawing) return;
      background = made;
      pen.drawImage(made, 0, 0);
    } catch {
      setTimeout(draw, 1000); // the server is being started again
      return;
    }
  } else {
    background = null;
    fill(picture.black, 0, 0, canvas.width, canvas.height);
  }
  // The second frame after drawing: the first one is the one that is being put together now.
  requestAnimationFrame(() => requestAnimationFrame(() => {
    if (mine === drawing) say(drawn = revision);
  }));
}

// How often the browser draws, from the middle one of the last intervals: a pattern's rate that does not fit it jumps unevenly.
let hertz = null;
const intervals = [];
let lastFrame = 0;
function clockFrame(now) {
  if (lastFrame) intervals.push(now - lastFrame);
  lastFrame = now;
  if (intervals.length < 90) return;
  intervals.sort((a, b) => a - b);
  hertz = 1000 / (intervals.slice(30, 60).reduce((a, b) => a + b, 0) / 30);
  intervals.length = 0;
}

function drawRows({ rows, box: [, top, , bottom], rgb }, at) {
  const left = pixel(at, canvas.width);
  rows.forEach((wide, i) => {
    const upper = pixel(top + (bottom - top) * i / rows.length, canvas.height);
    const lower = pixel(top + (bottom - top) * (i + 0.6) / rows.length, canvas.height);
    for (let line = 0; line < 4; line += 1) fill(rgb, left + 2 * wide * line, upper, left + 2 * wide * line + wide, lower);
  });
}

function move(now) {
  clockFrame(now);
  const moving = state && state.picture.moving;
  if (moving && background) {
    const { width, height } = canvas;
    const step = Math.floor(now / 1000 * moving.frames) / moving.frames;
    const [left, top, right, bottom] = moving.box;
    const at = (step / moving.seconds % 1) * (1 - right + left);
    pen.drawImage(background, 0, 0);
    if (moving.rows.length) drawRows(moving, at);
    else fill(moving.rgb, pixel(at, width), pixel(top, height), pixel(at + right - left, width), pixel(bottom, height));
  }
  requestAnimationFrame(move);
}

async function say(revision) {
  try {
    await fetch(`${address}drawn/`, {
      method: "POST", headers: { "Content-Type": "application/json" },
      body: JSON.stringify({ hz: hertz, revision, width: canvas.width, height: canvas.height, exact, awake: Boolean(lock && !lock.released) }),
    });
  } catch { /* said again in ten seconds */ }
}

let hiding;
function tell(words, seconds) {
  who.textContent = words;
  who.hidden = false;
  clearTimeout(hiding);
  if (seconds) hiding = setTimeout(() => { who.hidden = true; }, 1000 * seconds);
}
function identify() {
  if (state) tell(`${state.who}; ${canvas.width} × ${canvas.height}${exact ? "" : ", scaled by the browser"}`, 2);
}

async function keepAwake() {
  try {
    if (navigator.wakeLock && document.visibilityState === "visible") lock = await navigator.wakeLock.request("screen");
  } catch { lock = null; }
  if (state) say(drawn);
}

new ResizeObserver(([entry]) => {
  const box = entry.devicePixelContentBoxSize && entry.devicePixelContentBoxSize[0];
  exact = Boolean(box);
  canvas.width = box ? box.inlineSize : Math.round(entry.contentRect.width * devicePixelRatio);
  canvas.height = box ? box.blockSize : Math.round(entry.contentRect.height * devicePixelRatio);
  pen.imageSmoothingEnabled = false;
  // A picture is drawn for the size that the page has told, and for no other.
  drawn = 0;
  say(drawn).then(draw);
}).observe(canvas, { box: "device-pixel-content-box" });

function follow() {
  const stream = new EventSource(`${address}live/`);
  stream.addEventListener("picture", (event) => {
    const before = state;
    state = JSON.parse(event.data);
    if (before && before.identity !== state.identity) identify();
    if (!before || before.revision !== state.revision) draw();
  });
  stream.addEventListener("withdrawn", () => { stream.close(); state = null; background = null; fill([0, 0, 0], 0, 0, canvas.width, canvas.height);
    tell("This page was closed from Fenvik. A new number opens it again.", 0); });
  stream.addEventListener("error", () => {
    if (stream.readyState === EventSource.CLOSED) setTimeout(() => { stream.close(); follow(); }, 1500);
  });
  window.addEventListener("pagehide", () => stream.close(), { once: true });
}

function fullScreen() {
  if (document.fullscreenElement) document.exitFullscreen();
  else document.documentElement.requestFullscreen().catch(() => {});
}
async function show(pattern, options) {
  const answer = await fetch(`${address}choose/`, {
    method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify({ pattern, options }),
  }).catch(() => null);
  if (answer && answer.ok) return true;
  tell(answer && answer.status === 409 ? (await answer.json()).error : "Fenvik cannot be reached.", 4);
  return false;
}
const menu = chooser(document.getElementById("menu"), JSON.parse(document.getElementById("patterns").textContent), {
  show, shown: () => (state && state.picture.kind === "pattern" ? state.picture : null),
});
canvas.addEventListener("click", menu.toggle);
document.addEventListener("keydown", (event) => {
  if (menu.key(event)) return;
  if (event.key === "f" || event.key === "F") fullScreen();
  if (event.key === "i" || event.key === "I") identify();
});
canvas.addEventListener("dblclick", fullScreen);
document.addEventListener("visibilitychange", keepAwake);
setInterval(() => { if (state) say(drawn); }, 10000);
keepAwake();
requestAnimationFrame(move);
follow();
