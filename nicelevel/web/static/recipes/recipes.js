// Recipes, and the rules of a job: buttons that post and show the page as it is then.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { askText } from "../ask.js";
import { leaveFor, loadAnew } from "../going.js";
import { isTyping, page, say } from "../page.js";
import { post, sendFile } from "../requests.js";
import { undoKeys } from "../undo.js";

function recipes() {
  return {
    init() {
      undoKeys(this.$root.dataset.undo);
      addEventListener("keydown", (event) => {
        if (isTyping(event) || event.ctrlKey || event.altKey || event.metaKey) return;
        if (event.key === "Escape" && this.$root.dataset.board) leaveFor(this.$root.dataset.board);
        if (event.key === "i" && this.$refs.file) this.choose();
      });
    },

    async press({ target }) {
      const button = target.closest("button[data-post]");
      if (!button) return;
      const { post: address, asks, was, value, says } = button.dataset;
      const fields = button.dataset.key ? { [button.dataset.key]: value } : {};
      if (asks) {
        fields.name = await askText(asks, was);
        if (fields.name === null) return;
      }
      await this.ask(address, fields, says);
    },

    async send(event) {
      event.preventDefault();
      await this.ask(event.target.action, new FormData(event.target), "Kept.");
    },

    choose() {
      this.$refs.file.click();
    },

    async importFile({ target }) {
      const [file] = target.files;
      target.value = "";
      if (!file) return;
      try {
        const { slug, version } = await sendFile(this.$root.dataset.import, file);
        location.hash = slug;
        loadAnew(version > 1 ? `Kept as version ${version}.` : "Kept.");
      } catch (error) {
        say(error.message);
      }
    },

    async ask(address, fields, words) {
      try {
        const answer = await post(address, fields);
        if (answer.slug) location.hash = answer.slug;
        loadAnew(words);
      } catch (error) {
        say(error.message);
      }
    },
  };
}

Alpine.data("page", page);
Alpine.data("recipes", recipes);
Alpine.start();
