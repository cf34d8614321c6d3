// Before anything is drawn: the theme that was chosen, or the system's, and files that are let go before a page can take
// them. A browser would leave the page to open such a file; here it waits in `droppedEarly` for `drop.js`.
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
