// The list of stand-ins, and the fault that each has.
function cell(content) {
  const td = document.createElement("td");
  td.append(content);
  return td;
}

function faultOf(device, kinds) {
  const select = document.createElement("select");
  select.setAttribute("aria-label", `Fault of ${device.name}`);
  for (const [kind, what] of [["", "none"], ...Object.entries(kinds)]) {
    const option = new Option(kind ? `${kind}: ${what}` : what, kind, false, kind === device.fault);
    select.append(option);
  }
  select.addEventListener("change", () => fetch(`/api/fault/${encodeURIComponent(device.serial)}`, {
    method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify({ kind: select.value }),
  }));
  return select;
}

function placeOf(device, what, words) {
  const now = device[what];
  if (!now) return "";
  const both = document.createElement("span");
  const fields = ["to the right", "down"].map((way, i) => {
    const field = document.createElement("input");
    Object.assign(field, { type: "number", min: -50, max: 50, step: 1, value: now[i] });
    field.setAttribute("aria-label", `${words} of ${device.name} ${way}, percent`);
    field.addEventListener("change", () => world({ [what]: { serial: device.serial, x: Number(fields[0].value), y: Number(fields[1].value) } }));
    return field;
  });
  both.append(...fields);
  return both;
}

const answer = await fetch("/api/devices");
const { devices, kinds, front, lux } = await answer.json();
for (const device of devices) {
  const row = document.createElement("tr");
  let name = device.name;
  if (device.role === "display") {
    name = document.createElement("a");
    name.href = `/display/${encodeURIComponent(device.serial)}`;
    name.textContent = device.name;
  }
  row.append(cell(device.role), cell(name), cell(device.serial), cell(placeOf(device, "stand", "Place")), cell(placeOf(device, "aim", "Aim")), cell(faultOf(device, kinds)));
  document.getElementById("devices").append(row);
}

function world(body) {
  return fetch("/api/world", { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });
}
const where = document.getElementById("front");
for (const device of devices.filter((d) => d.role === "display")) {
  where.append(new Option(device.name, device.serial, false, device.serial === front));
}
where.addEventListener("change", () => world({ front: where.value }));
const light = document.getElementById("lux");
light.value = lux;
light.addEventListener("change", () => world({ lux: Number(light.value) }));
