// Runs: drawn by the server, kept true by its events.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { oneAtATime, watchChanges } from "../changes.js";
import { leaveFor } from "../going.js";
import { isTyping, page, say } from "../page.js";
import { swapParts } from "../parts.js";
import { getHtml, post } from "../requests.js";

const GATHER_MS = 400;

function runs() {
  return {
    init() {
      watchChanges(oneAtATime(() => this.draw(), GATHER_MS));
      addEventListener("keydown", (event) => {
        const actions = { x: () => this.post(this.$root.dataset.stop), a: () => this.again(), j: () => leaveFor("/") };
        const action = actions[event.key];
        if (!action || isTyping(event)) return;
        event.preventDefault();
        action();
      });
    },

    async draw() {
      try {
        swapParts(await getHtml(this.$root.dataset.parts));
      } catch (error) {
        say(error.message);
      }
    },

    press(event) {
      const address = event.target.closest("[data-post]")?.dataset.post;
      if (address) this.post(address);
    },

    again() {
      const buttons = [...this.$root.querySelectorAll("[data-again]")];
      if (!buttons.length) return say("Nothing here failed or was stopped.");
      for (const button of buttons) this.post(button.dataset.post);
    },

    async post(address) {
      try {
        await post(address);
      } catch (error) {
        say(error.message);
      }
    },
  };
}

Alpine.data("page", page);
Alpine.data("runs", runs);
Alpine.start();
