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
document.addEventListener("alpine:initialized", () => {
  removeEventListener("keydown", keepKey, true);
  for (const { key, shiftKey, timeStamp, target } of pressedEarly.splice(0)) {
    if (performance.now() - timeStamp > EARLY_KEYS_MS) continue;
    const again = new KeyboardEvent("keydown", { key, shiftKey, bubbles: true, cancelable: true });
    (target.isConnected ? target : document.body).dispatchEvent(again);
  }
});
