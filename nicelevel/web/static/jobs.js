// The list of jobs: a new one by form, or by dropping files anywhere.

import Alpine from "./vendor/alpine/alpine-csp.js";
import { watchDrops } from "./drop.js";
import { isTyping, page, say, WORD_SHOWN_MS } from "./page.js";
import { post } from "./requests.js";
import { takeFiles } from "./uploads/uploads.js";

function jobs() {
  return {
    dropping: false,
    asked: null,

    init() {
      watchDrops((on) => (this.dropping = on), (files) => this.makeJobOf(files));
      addEventListener("keydown", (event) => {
        if (event.key !== "n" || isTyping(event)) return;
        event.preventDefault();
        this.$refs.title.focus();
      });
    },

    // The first press says what goes; the second does it.
    async press(event) {
      const button = event.target.closest("[data-delete]");
      if (!button) return;
      if (this.asked !== button) {
        this.asked = button;
        setTimeout(() => (this.asked = null), WORD_SHOWN_MS);
        return say(`${button.dataset.what} would be gone for good. Press once more to do it.`);
      }
      try {
        const { freed_bytes } = await post(button.dataset.delete);
        button.closest("tr").remove();
        say(`Deleted; ${(freed_bytes / 1e6).toFixed(1)} MB of the disk are free again.`);
      } catch (error) {
        say(error.message);
      }
    },

    async makeJobOf(files) {
      const title = files[0].name.replace(/\.[^.]*$/, "");
      try {
        const job = await post(this.$root.dataset.new, { title });
        takeFiles(job.id, job.upload, files);
        location.assign(job.board);
      } catch (error) {
        say(error.message);
      }
    },
  };
}

Alpine.data("page", page);
Alpine.data("jobs", jobs);
Alpine.start();
