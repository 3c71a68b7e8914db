// A television's menu: worked by arrow keys as by a remote. Fenvik knows nothing of what is set here.
const serial = decodeURIComponent(location.pathname.split("/").pop());
const address = `/api/display/${encodeURIComponent(serial)}`;
const menu = document.getElementById("menu");
let facts = null;
let focus = 0;
let drawn = "";

function rows() {
  const modes = { id: "", label: "Picture mode", group: "Mode", kind: "mode", value: facts.mode };
  return [modes, ...facts.controls];
}

function shown(row) {
  if (row.kind === "mode") return (facts.modes.find((m) => m.id === row.value) || { label: "none for this signal" }).label;
  if (row.kind === "switch") return row.value ? "on" : "off";
  return String(row.value);
}

function drawMenu() {
  const now = JSON.stringify([facts.mode, facts.controls, focus]);
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
  const { patch, surround, side, middle, chart } = facts.picture;
  document.getElementById("surround").setAttribute("fill", surround);
  const window = document.getElementById("patch");
  window.setAttribute("fill", patch);
  window.setAttribute("width", 1600 * side);
  window.setAttribute("height", 900 * side);
  window.setAttribute("x", 1600 * (middle[0] - side / 2));
  window.setAttribute("y", 900 * (middle[1] - side / 2));
  const lines = chart ? '<path d="M800 0V900M0 450H1600" stroke="#777" stroke-width="2"/><circle cx="800" cy="450" r="60" fill="none" stroke="#777" stroke-width="2"/>' : "";
  document.getElementById("chart").innerHTML = lines;
  const code = document.getElementById("code");
  code.hidden = !facts.code;
  code.textContent = facts.code;
  document.getElementById("name").textContent = facts.name;
}

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
let waiting = 0;
function change(by, times) {
  const { id } = rows()[focus];
  waiting += 1;
  queue = queue.then(() => {
    waiting -= 1;
    const row = rows().find((r) => r.id === id);
    if (!row) return undefined;
    if (row.kind === "mode") return send({ choose: around(facts.modes.map((m) => m.id), row.value, by) });
    if (row.kind === "choice") return send({ control: row.id, value: around(row.options, row.value, by) });
    if (row.kind === "switch") return send({ control: row.id, value: by > 0 });
    const wanted = Math.min(Math.max(row.value + by * times * row.step, row.min), row.max);
    return send({ control: row.id, value: wanted });
  });
}

function press(key, times = 1) {
  if (!facts) return;
  if (key === "menu") menu.hidden = !menu.hidden;
  if (key === "up") focus = Math.max(focus - 1, 0);
  if (key === "down") focus = Math.min(focus + 1, rows().length - 1);
  if (key === "left") change(-1, times);
  if (key === "right") change(1, times);
  drawMenu();
}

const keys = { ArrowUp: "up", ArrowDown: "down", ArrowLeft: "left", ArrowRight: "right", m: "menu", M: "menu" };
document.addEventListener("keydown", (event) => {
  if (!keys[event.key] || event.ctrlKey || event.metaKey) return;
  event.preventDefault();
  press(keys[event.key], event.shiftKey ? 5 : 1);
});
document.querySelectorAll("[data-press]").forEach((button) => button.addEventListener("click", () => press(button.dataset.press)));

async function follow() {
  try {
    const answer = await fetch(address);
    const now = await answer.json();
    // An answer that was asked for before a press would show the value from before it.
    if (answer.ok && !waiting) draw(now);
  } catch { /* the stand-ins are being started again */ }
  setTimeout(follow, 200);
}
follow();
