// Before anything is drawn: the theme that was chosen, or the system's, and what comes before a page can take it. A
// browser would leave the page to open a file that is let go; here it waits in `droppedEarly` for `drop.js`.
const chosen = localStorage.getItem("theme");
const system = matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
document.documentElement.dataset.bsTheme = chosen || system;

globalThis.droppedEarly = [];
for (const kind of ["dragover", "drop"]) {
  addEventListener(kind, (event) => {
    if (!event.dataTransfer?.types.includes("Files")) return;
    event.preventDefault();
    if (kind === "drop") droppedEarly.push(...event.dataTransfer.files);
  });
}

// Keys pressed before a page listens to them, just after it was loaded anew, are pressed again once it does; what was
// typed after one that leads into a field is typed into the field.
const EARLY_KEYS_MS = 5000;
const KEPT = /^.$|^(Arrow\w+|Escape|Delete|Home|End|F2)$/u;
const pressedEarly = [];
const keepKey = (event) => {
  const { target, key, ctrlKey, altKey, metaKey } = event;
  if (ctrlKey || altKey || metaKey || target.closest?.("input, textarea, select, a, button, summary")) return;
  if (KEPT.test(key)) pressedEarly.push(event);
};
const pressAllAgain = () => {
  const before = document.activeElement;
  for (const { key, shiftKey, timeStamp, target } of pressedEarly.splice(0)) {
    if (performance.now() - timeStamp > EARLY_KEYS_MS) continue;
    const now = document.activeElement, field = now !== before && now?.matches("input, textarea") ? now : null;
    if (field && [...key].length === 1) document.execCommand("insertText", false, key);
    else (field ?? (target.isConnected ? target : document.body)).dispatchEvent(pressOf(key, shiftKey));
  }
};
const pressOf = (key, shiftKey) => new KeyboardEvent("keydown", { key, shiftKey, bubbles: true, cancelable: true });
addEventListener("keydown", keepKey, true);

// A form that a script sends would go as a plain GET and lose what was typed; a button's press would do nothing.
const sentEarly = new Map();
const keepSubmit = (event) => {
  if (!event.target.hasAttribute("x-on:submit")) return;
  event.preventDefault();
  sentEarly.set(event.target, event.submitter);
};
const pressedButtons = new Set();
const keepPress = (event) => {
  const button = event.target.closest?.("button[type=button]");
  if (button) pressedButtons.add(button);
};
addEventListener("submit", keepSubmit, true);
addEventListener("click", keepPress, true);

document.addEventListener("alpine:initialized", () => {
  removeEventListener("keydown", keepKey, true);
  removeEventListener("submit", keepSubmit, true);
  removeEventListener("click", keepPress, true);
  for (const [form, submitter] of sentEarly) if (form.isConnected) form.requestSubmit(submitter);
  for (const button of pressedButtons) if (button.isConnected) button.click();
  pressAllAgain();
});
