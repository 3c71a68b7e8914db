// What the stand-in eye says of two displays, asked again and again.
const { devices } = await (await fetch("/api/devices")).json();
const displays = devices.filter((d) => d.role === "display");
const chosen = ["reference", "other"].map((id, i) => {
  const select = document.getElementById(id);
  for (const display of displays) select.append(new Option(display.name, display.serial, false, display === displays[i]));
  return select;
});
const pictures = ["left", "right"].map((id) => document.getElementById(id).getContext("2d"));

async function look() {
  const asked = new URLSearchParams(chosen.map((select) => [select.id, select.value]));
  const answer = await fetch(`/api/eye?${asked}`);
  if (answer.ok) {
    const { says, looks } = await answer.json();
    document.getElementById("says").textContent = `${says}.`;
    pictures.forEach((picture, i) => { picture.fillStyle = looks[i]; picture.fillRect(0, 0, 360, 200); });
  }
  setTimeout(look, 400);
}
look();
