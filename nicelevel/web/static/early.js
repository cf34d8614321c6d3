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

// Keys pressed before a page listens to them, just after it was loaded anew, are pressed again once it does.
const EARLY_KEYS_MS = 5000;
const pressedEarly = [];
const keepKey = (event) => {
  const { target, key, ctrlKey, altKey, metaKey } = event;
  if (ctrlKey || altKey || metaKey || target.closest?.("input, textarea, select, a, button, summary")) return;
  if (/^[a-z0-9?.,]$|^[A-Z]$|^(Arrow\w+|Escape|Delete|Home|End|F2)$/.test(key)) pressedEarly.push(event);
};
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
  for (const { key, shiftKey, timeStamp, target } of pressedEarly.splice(0)) {
    if (performance.now() - timeStamp > EARLY_KEYS_MS) continue;
    const again = new KeyboardEvent("keydown", { key, shiftKey, bubbles: true, cancelable: true });
    (target.isConnected ? target : document.body).dispatchEvent(again);
  }
});
