// Before anything is drawn: the theme that was chosen, or the system's.
const chosen = localStorage.getItem("theme");
const system = matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
document.documentElement.dataset.bsTheme = chosen || system;
