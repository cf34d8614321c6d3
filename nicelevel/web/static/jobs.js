// The list of jobs: a new one by form, or by dropping files anywhere.

import Alpine from "./vendor/alpine/alpine-csp.js";
import { watchDrops } from "./drop.js";
import { isTyping, page, say } from "./page.js";
import { post, upload } from "./requests.js";

function jobs() {
  return {
    dropping: false,
    uploading: false,
    progressText: "",

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
        this.uploading = true;
        const shares = files.map(() => 0);
        for (const [n, file] of files.entries()) await upload(job.upload, file, (share) => this.show(shares, n, share));
        location.assign(job.board);
      } catch (error) {
        this.uploading = false;
        say(error.message);
      }
    },

    show(shares, n, share) {
      shares[n] = share;
      const percent = Math.round((100 * shares.reduce((sum, each) => sum + each, 0)) / shares.length);
      this.progressText = `Taking in ${shares.length} files: ${percent} %`;
    },
  };
}

Alpine.data("page", page);
Alpine.data("jobs", jobs);
Alpine.start();
