// Files that were chosen stay chosen where their form is drawn anew: no page that comes from the server can have them in it.
export const chosenIn = (element) =>
  [...element.querySelectorAll("input[type=file]")].filter((field) => field.files.length).map((field) => [field.id, field.files]);

// What was refused of a file is mended in it, and a browser sends no file that has changed since it was chosen.
export const isRefused = (field) => Boolean(field.closest(".wrong") || field.form?.nextElementSibling?.matches(".problem"));

export function chooseAgain(chosen, but = () => false) {
  for (const [id, files] of chosen) {
    const field = document.getElementById(id);
    if (field && !field.files.length && !but(field)) field.files = files;
  }
}
