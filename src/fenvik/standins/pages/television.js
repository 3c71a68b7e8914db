// A television's menu: worked by arrow keys as by a remote. Fenvik knows nothing of what is set here.
const serial = decodeURIComponent(location.pathname.split("/").pop());
const address = `/api/display/${encodeURIComponent(serial)}`;
const menu = document.getElementById("menu");
let facts = null;
let focus = 0;
let drawn = "";

function rows() {
  const modes = { id: "", label: "Picture mode", group: "Mode", kind: "mode", value: facts.mode };
  const inputs = { id: "input", label: "Input", group: "Mode", kind: "input", value: facts.input };
  return [modes, inputs, ...facts.controls];
}

function shown(row) {
  if (row.kind === "mode") return (facts.modes.find((m) => m.id === row.value) || { label: "none for this signal" }).label;
  if (row.kind === "switch") return row.value ? "on" : "off";
  return String(row.value);
}

function drawMenu() {
  const now = JSON.stringify([facts.mode, facts.input, facts.controls, focus]);
  if (now === drawn) return;
  drawn = now;
  menu.replaceChildren();
  let group = null;
  rows().forEach((row, index) => {
    if (row.group !== group) {
      group = row.group;
      const title = document.createElement("h2");
      title.textContent = group;
      menu.append(title);
    }
    const line = document.createElement("div");
    line.className = "row";
    line.setAttribute("role", "option");
    line.setAttribute("aria-selected", index === focus);
    line.dataset.control = row.id;
    const name = document.createElement("span");
    name.textContent = row.label;
    const value = document.createElement("b");
    value.textContent = shown(row);
    line.append(name, value);
    line.addEventListener("click", () => { focus = index; drawMenu(); });
    menu.append(line);
    if (index === focus) line.scrollIntoView({ block: "nearest" });
  });
}

function drawPicture() {
  const { patch, surround, side, middle } = facts.picture;
  document.getElementById("surround").setAttribute("fill", surround);
  const window = document.getElementById("patch");
  window.setAttribute("fill", patch);
  window.setAttribute("width", 1600 * side);
  window.setAttribute("height", 900 * side);
  window.setAttribute("x", 1600 * (middle[0] - side / 2));
  window.setAttribute("y", 900 * (middle[1] - side / 2));
  drawChart();
  const code = document.getElementById("code");
  code.hidden = !facts.code;
  code.textContent = facts.code;
  document.getElementById("name").textContent = facts.name;
}

// A chart comes as a picture from the display itself; closer, a quarter of its width fills the screen pixel by pixel.
const drawnChart = document.getElementById("drawn");
const CLOSER = 4;
let close = false;
const place = { x: 0.5, y: 0.5 };
function drawChart() {
  const { drawn: mark } = facts.picture;
  const wanted = mark ? `/display/${encodeURIComponent(serial)}/picture.png?v=${mark}` : "";
  drawnChart.hidden = !mark;
  if (wanted && drawnChart.dataset.shown !== wanted) {
    drawnChart.dataset.shown = wanted;
    drawnChart.src = wanted;
  }
  drawnChart.className = close ? "closer" : "";
  const shift = (at) => -100 * Math.min(Math.max(at - 0.5 / CLOSER, 0), 1 - 1 / CLOSER) * CLOSER;
  drawnChart.style.transform = close ? `translate(${shift(place.x)}%, ${shift(place.y)}%) scale(${CLOSER})` : "";
  document.getElementById("bring").disabled = facts.here;
  document.getElementById("bring").textContent = facts.here ? "the instruments stand here" : "bring the instruments here";
}

// What moves over a chart: film goes in jumps, and smoothly where the display makes up pictures in between.
const bar = document.getElementById("bar");
function move(now) {
  const moving = facts && facts.picture.moving;
  bar.hidden = !moving;
  if (moving) {
    const [left, top, right, bottom] = moving.box;
    const step = moving.smooth ? now : Math.floor(now / 1000 * moving.frames) / moving.frames * 1000;
    bar.style.width = `${100 * (right - left)}%`;
    bar.style.top = `${100 * top}%`;
    bar.style.height = `${100 * (bottom - top)}%`;
    bar.style.left = `${100 * (step / 1000 / moving.seconds % 1) * (1 - right + left)}%`;
  }
  requestAnimationFrame(move);
}
requestAnimationFrame(move);

function draw(next) {
  facts = next;
  focus = Math.min(focus, rows().length - 1);
  drawMenu();
  drawPicture();
}

async function send(body) {
  const answer = await fetch(address, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });
  if (answer.ok) draw(await answer.json());
}

function around(list, now, by) {
  const at = list.indexOf(now);
  return list[Math.min(Math.max(at + by, 0), list.length - 1)];
}

// Presses wait for each other: a remote held down must not overtake itself. A press belongs to the row that was chosen
// when it was made, wherever the choice has gone meanwhile.
let queue = Promise.resolve();
let pressed = 0;
let done = 0;
function change(by, times) {
  const { id } = rows()[focus];
  pressed += 1;
  queue = queue.then(() => {
    const row = rows().find((r) => r.id === id);
    if (!row) return undefined;
    if (row.kind === "input") return send({ input: around(facts.inputs, row.value, by) });
    if (row.kind === "mode") return send({ choose: around(facts.modes.map((m) => m.id), row.value, by) });
    if (row.kind === "choice") return send({ control: row.id, value: around(row.options, row.value, by) });
    if (row.kind === "switch") return send({ control: row.id, value: by > 0 });
    const wanted = Math.min(Math.max(row.value + by * times * row.step, row.min), row.max);
    return send({ control: row.id, value: wanted });
  }).catch(() => { /* the stand-ins are being started again */ }).finally(() => { done += 1; });
}

function press(key, times = 1) {
  if (!facts) return;
  if (key === "menu") menu.hidden = !menu.hidden;
  if (key === "closer") close = !close;
  if (close && menu.hidden) {
    place.x = Math.min(Math.max(place.x + ({ left: -1, right: 1 }[key] || 0) * 0.06, 0), 1);
    place.y = Math.min(Math.max(place.y + ({ up: -1, down: 1 }[key] || 0) * 0.06, 0), 1);
    drawChart();
    return;
  }
  if (key === "closer") { drawChart(); return; }
  if (key === "up") focus = Math.max(focus - 1, 0);
  if (key === "down") focus = Math.min(focus + 1, rows().length - 1);
  if (key === "left") change(-1, times);
  if (key === "right") change(1, times);
  drawMenu();
}

const keys = { ArrowUp: "up", ArrowDown: "down", ArrowLeft: "left", ArrowRight: "right", m: "menu", M: "menu", c: "closer", C: "closer" };
document.addEventListener("keydown", (event) => {
  if (!keys[event.key] || event.ctrlKey || event.metaKey) return;
  event.preventDefault();
  press(keys[event.key], event.shiftKey ? 5 : 1);
});
document.querySelectorAll("[data-press]").forEach((button) => button.addEventListener("click", () => press(button.dataset.press)));

function world(body) {
  return fetch("/api/world", { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });
}
document.getElementById("bring").addEventListener("click", () => world({ front: serial }));
document.getElementById("cold").addEventListener("click", () => world({ cold: serial }));

async function follow() {
  try {
    const before = done;
    const answer = await fetch(address);
    const now = await answer.json();
    // An answer that was asked for before a press was done would show the value from before it, and the next press
    // would begin there.
    if (answer.ok && pressed === before) draw(now);
  } catch { /* the stand-ins are being started again */ }
  setTimeout(follow, 200);
}
follow();
