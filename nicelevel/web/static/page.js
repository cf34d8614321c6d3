// What every page has: the theme, the list of keys, a word to the person, what is being rendered.

import { oneAtATime, watchChanges } from "./changes.js";
import { swapParts } from "./parts.js";
import { getHtml } from "./requests.js";

export const WORD_SHOWN_MS = 6000;
const RUNNING_MS = 1500;

export function page() {
  return {
    theme: document.documentElement.dataset.bsTheme,
    word: "",
    trouble: "",

    init() {
      addEventListener("trouble", (event) => (this.trouble = event.detail));
      const tellRunning = oneAtATime(() => this.tellRunning(), RUNNING_MS);
      watchChanges((changes) => changes.length && tellRunning());
      addEventListener("say", (event) => this.say(event.detail));
      const kept = sessionStorage.getItem("say"); // by the page before, which was loaded anew
      sessionStorage.removeItem("say");
      if (kept) this.say(kept);
      addEventListener("keydown", (event) => this.onKey(event));
      addEventListener("click", ({ target }) => openLists().forEach((list) => list.contains(target) || (list.open = false)));
    },

    // The note in the head, for pages that do not bring it themselves.
    async tellRunning() {
      try {
        if (document.getElementById("running")) swapParts(await getHtml("/runs/now"));
      } catch {
        // The next change asks again.
      }
    },

    get themeLabel() {
      return this.theme === "dark" ? "Light room" : "Dim room";
    },

    switchTheme() {
      this.theme = this.theme === "dark" ? "light" : "dark";
      document.documentElement.dataset.bsTheme = this.theme;
      localStorage.setItem("theme", this.theme);
    },

    showKeys() {
      this.$refs.keys.showModal();
    },

    say(text) {
      this.word = text;
      clearTimeout(this.timer);
      this.timer = setTimeout(() => (this.word = ""), WORD_SHOWN_MS);
    },

    onKey(event) {
      const list = event.key === "Escape" && openLists().pop();
      if (list) {
        event.stopImmediatePropagation();
        list.open = false;
        return list.querySelector("summary").focus();
      }
      if (isTyping(event)) return;
      if (event.key === "?") this.showKeys();
      if (event.key === "t") this.switchTheme();
    },
  };
}

export const say = (text) => dispatchEvent(new CustomEvent("say", { detail: text }));

const openLists = () => [...document.querySelectorAll("details.adder[open]")];

// Lets keys do what a page says of them, while the page has the focus: not what stands in the head or in an open list.
// What has the focus and is pressed by Enter or Space is pressed by them.
export function onKeys(actions) {
  addEventListener("keydown", (event) => {
    const action = actions[event.key];
    if (!action || isTyping(event) || isElsewhere(event) || presses(event)) return;
    event.preventDefault();
    action(event);
  });
}

const isElsewhere = ({ target }) => Boolean(target.closest?.("header.top, details.adder[open]"));

function presses({ key, target }) {
  return (key === "Enter" || key === " ") && Boolean(target.closest?.("a, button, summary, label, [role=button]"));
}

// Keys mean themselves while somebody types, and belong to the browser with a modifier.
export function isTyping(event) {
  return isInField(event) || event.ctrlKey || event.metaKey || event.altKey;
}

export const isInField = ({ target }) => Boolean(target.closest?.("input, textarea, select, dialog"));
