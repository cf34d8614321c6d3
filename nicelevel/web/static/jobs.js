// The list of jobs: a new one by form, or by dropping files anywhere.

import Alpine from "./vendor/alpine/alpine-csp.js";
import { watchDrops } from "./drop.js";
import { isTyping, page, say } from "./page.js";
import { post } from "./requests.js";
import { takeFiles } from "./uploads/uploads.js";

function jobs() {
  return {
    dropping: false,

    init() {
      watchDrops((on) => (this.dropping = on), (files) => this.makeJobOf(files));
      addEventListener("keydown", (event) => {
        if (event.key !== "n" || isTyping(event)) return;
        event.preventDefault();
        this.$refs.title.focus();
      });
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
