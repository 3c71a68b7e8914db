// Files that were chosen stay chosen where their form is drawn anew: no page that comes from the server can have them in it.
export const chosenIn = (element) =>
  [...element.querySelectorAll("input[type=file]")].filter((field) => field.files.length).map((field) => [field.id, field.files]);

export function chooseAgain(chosen) {
  for (const [id, files] of chosen) {
    const field = document.getElementById(id);
    if (field && !field.files.length) field.files = files;
  }
}
