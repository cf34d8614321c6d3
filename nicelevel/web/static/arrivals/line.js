// One line: sentences with fields, kept as a whole.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { leaveFor } from "../going.js";
import { isInField, page, say } from "../page.js";
import { post, sendFile } from "../requests.js";

const OWN = "own";

function line() {
  return {
    problem: "",

    init() {
      const form = this.$refs.form;
      form.addEventListener("change", () => this.show());
      this.show();
      addEventListener("keydown", (event) => {
        if (event.key === "Enter" && event.ctrlKey) form.requestSubmit();
        else if (event.ctrlKey || event.metaKey || event.altKey) return;
        else if (event.key === "Escape") leaveFor(this.$root.dataset.arrivals);
        else if (event.key === "i" && !isInField(event) && this.$refs.file) this.choose();
      });
    },

    // What is asked for only where something else is chosen.
    show() {
      const { usual, expected, afterwards, moved_to, when_nothing, stand_in } = this.$refs.form.elements;
      if (usual.value !== OWN) expected.value = usual.value;
      expected.hidden = usual.value !== OWN;
      moved_to.hidden = afterwards.value !== "move";
      stand_in.hidden = when_nothing.value !== "stand_in";
    },

    async send(event) {
      event.preventDefault();
      await this.ask(event.target.action, new FormData(event.target), "Kept.");
    },

    async press({ target }) {
      const button = target.closest("[data-post]");
      if (button) await this.ask(button.dataset.post, {}, button.dataset.says);
    },

    choose() {
      this.$refs.file.click();
    },

    async importFile({ target }) {
      const [file] = target.files;
      target.value = "";
      if (!file) return;
      try {
        const { address } = await sendFile(this.$root.dataset.import, file);
        sessionStorage.setItem("say", "Taken in; it is stopped until you have it run.");
        leaveFor(address);
      } catch (error) {
        this.problem = error.message;
      }
    },

    async ask(address, fields, words) {
      try {
        const answer = await post(address, fields);
        sessionStorage.setItem("say", words);
        leaveFor(answer.address);
      } catch (error) {
        this.problem = error.message;
        say(error.message);
      }
    },
  };
}

Alpine.data("page", page);
Alpine.data("line", line);
Alpine.start();
