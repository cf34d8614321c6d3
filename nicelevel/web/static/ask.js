// Asking for one line of text, in a dialog that every page has: the text, or null where somebody thought better of it.

export function askText(label, value = "") {
  const dialog = document.querySelector("dialog.ask");
  const [words, field] = [dialog.querySelector("label span"), dialog.querySelector("input")];
  words.textContent = label;
  field.value = value;
  dialog.returnValue = "";
  dialog.showModal();
  field.select();
  return new Promise((resolve) => {
    dialog.addEventListener("close", () => resolve(dialog.returnValue === "ok" ? field.value : null), { once: true });
  });
}
