// The Spread: drawn by the server; here the axes are changed.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { leaveFor } from "../going.js";
import { isTyping, page } from "../page.js";

function spread() {
  return {
    init() {
      addEventListener("keydown", (event) => {
        if (event.key === "Escape" && !isTyping(event)) leaveFor(this.$root.querySelector("[data-board]").href);
      });
    },

    choose() {
      this.$refs.axes.requestSubmit();
    },
  };
}

Alpine.data("page", page);
Alpine.data("spread", spread);
Alpine.start();
