// The Spec screen: fields and drags become a draft, which the server draws; nothing is judged here.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { leaveFor } from "../going.js";
import { isTyping, page, say } from "../page.js";
import { post, postForHtml, sendFile } from "../requests.js";
import { undoKeys } from "../undo.js";

const MINUS = "−";

const asNumber = (text) => Number(text.replace(MINUS, "-").replace(",", "."));
const asText = (value) => String(Math.round(value * 100) / 100).replace("-", MINUS);

function spec() {
  return {
    isChanged: false,
    asking: false,
    isKeeping: false,
    again: false,
    over: false,

    init() {
      undoKeys(this.$root.dataset.undo);
      for (const row of this.$refs.formats.children) this.offerHeld(row);
      this.$refs.formats.addEventListener("click", (event) => this.dropFormat(event));
      addEventListener("keydown", (event) => this.onKey(event));
      addEventListener("beforeunload", (event) => this.isChanged && event.preventDefault());
    },

    onKey(event) {
      if (isTyping(event)) return;
      if (event.key === "k" && this.isChanged) this.keep();
      if (event.key === "c") this.copy();
      if (event.key === "j" || event.key === "u") this.walk(event.key === "j" ? 1 : -1);
    },

    walk(by) {
      const links = [...this.$root.querySelectorAll(".list a")];
      const at = links.findIndex((link) => link.getAttribute("aria-current"));
      links[at + by]?.click();
    },

    // While somebody types nothing is judged: that is done when the field is left.
    touched() {
      this.isChanged = true;
    },

    changed(event) {
      this.isChanged = true;
      if (event?.target.name.endsWith(".container")) this.offerHeld(event.target.closest("li"));
      this.draw();
    },

    // A container offers what it can hold; what it cannot is not there to be chosen.
    offerHeld(row) {
      const [container, encoding] = ["container", "encoding"].map((name) => row.querySelector(`[name$=".${name}"]`));
      const held = JSON.parse(this.$refs.fields.dataset.held)[container.value];
      for (const option of encoding.options) option.hidden = option.disabled = !held.includes(option.value);
      if (encoding.selectedOptions[0]?.disabled) encoding.value = [...encoding.options].find((option) => !option.disabled).value;
    },

    field(name) {
      return this.$refs.fields.elements[name];
    },

    // One question at a time; what changed meanwhile is asked next.
    draw() {
      if (this.isKeeping) return;
      if (this.asking) return (this.again = true);
      this.drawing = this.ask();
    },

    async ask() {
      this.asking = true;
      try {
        const html = await postForHtml(this.$root.dataset.draft, new FormData(this.$refs.fields));
        const fresh = new DOMParser().parseFromString(html, "text/html");
        for (const part of fresh.querySelectorAll("body > [id]")) document.getElementById(part.id)?.replaceWith(part);
        this.markWrong(null);
      } catch (error) {
        this.markWrong(error.key);
        say(error.message);
      }
      this.asking = false;
      if (this.again) {
        this.again = false;
        this.draw();
      }
    },

    // A field that is wrong looks and says so.
    markWrong(key) {
      for (const field of this.$refs.fields.elements) {
        const isWrong = field.name !== "" && field.name === key;
        field.classList.toggle("wrong", isWrong);
        if (isWrong) field.setAttribute("aria-invalid", "true");
        else field.removeAttribute("aria-invalid");
      }
    },

    // What is dragged says which field it is, along which axis, and how much a pixel is.
    grab(event) {
      const held = event.target.closest("[data-drag]")?.dataset;
      const field = held && this.field(held.drag);
      if (!field) return;
      event.preventDefault();
      const { axis, number, perPixel, step, fine, least = "-Infinity", most = "Infinity" } = { ...held };
      const parts = number === undefined ? [field.value] : field.value.split(/,\s+/);
      const at = Number(number ?? 0);
      const began = asNumber(parts[at]);
      const move = (moved) => {
        const way = axis === "x" ? moved.clientX - event.clientX : moved.clientY - event.clientY;
        const grain = Number(moved.shiftKey ? fine : step);
        const value = Math.round((began + way * Number(perPixel)) / grain) * grain;
        parts[at] = asText(Math.min(Number(most), Math.max(Number(least), value)));
        const text = parts.join(", ");
        if (text === field.value) return;
        field.value = text;
        this.changed();
      };
      const end = () => {
        removeEventListener("pointermove", move);
        removeEventListener("pointerup", end);
      };
      addEventListener("pointermove", move);
      addEventListener("pointerup", end);
    },

    step(event) {
      const up = { ArrowUp: 1, ArrowDown: -1 }[event.key];
      const step = Number(event.target.dataset?.step);
      if (!up || !step || event.target.value === "") return;
      event.preventDefault();
      event.target.value = asText(asNumber(event.target.value) + up * step * (event.shiftKey ? 0.1 : 1));
      this.changed();
    },

    addFormat() {
      const last = this.$refs.formats.lastElementChild;
      const row = last.cloneNode(true);
      const old = [...last.querySelectorAll("[name]")];
      [...row.querySelectorAll("[name]")].forEach((field, n) => (field.value = old[n].value));
      this.$refs.formats.append(row);
      this.numberFormats();
    },

    dropFormat(event) {
      if (!event.target.closest("[data-drop-format]")) return;
      if (this.$refs.formats.children.length === 1) return say("A spec needs one format at least.");
      event.target.closest("li").remove();
      this.numberFormats();
    },

    numberFormats() {
      [...this.$refs.formats.children].forEach((row, number) => {
        for (const field of row.querySelectorAll("[name]")) field.name = field.name.replace(/\.\d+\./, `.${number}.`);
      });
      this.changed();
    },

    // What is still being drawn comes first: kept, a spec may have another address.
    async keep() {
      this.isKeeping = true;
      this.again = false;
      await this.drawing;
      try {
        const fields = new FormData(this.$refs.fields);
        if (this.over) fields.set("over", "1");
        const { version, address } = await post(this.$root.dataset.keep, fields);
        this.isChanged = false;
        leaveFor(address);
        say(`Kept as version ${version}.`);
      } catch (error) {
        this.isKeeping = false;
        this.over = error.code === "conflict"; // said, so the next press means it
        say(error.message);
      }
    },

    copy() {
      return this.go(this.$root.dataset.copy, new FormData(this.$refs.fields));
    },

    // The copy is a destination of the job that stands against it at once.
    copyToUse() {
      const fields = new FormData(this.$refs.fields);
      fields.set("use", "1");
      return this.go(this.$root.dataset.copy, fields);
    },

    begin(event) {
      return this.go(event.target.dataset.new);
    },

    discard(event) {
      return this.go(event.target.dataset.delete);
    },

    // Does what makes or removes a spec, and goes where that leads.
    async go(address, fields) {
      try {
        const answer = await post(address, fields);
        this.isChanged = false;
        leaveFor(answer.address);
      } catch (error) {
        say(error.message);
      }
    },

    chooseJob() {
      this.isChanged = false;
      this.$refs.job.requestSubmit();
    },

    chooseFile() {
      this.$refs.file.click();
    },

    async importFile() {
      const [file] = this.$refs.file.files;
      this.$refs.file.value = "";
      try {
        const { address } = await sendFile(this.$root.dataset.import, file);
        leaveFor(address);
      } catch (error) {
        say(error.message);
      }
    },
  };
}

Alpine.data("page", page);
Alpine.data("spec", spec);
Alpine.start();
