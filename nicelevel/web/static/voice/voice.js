// A voice recording: drawn by the server, kept true by its events; hearing it before and after.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { oneAtATime, watchChanges } from "../changes.js";
import { watchDrops } from "../drop.js";
import { leaveFor } from "../going.js";
import { Hearing, hearingKeys } from "../hear/hearing.js";
import { onKeys, page, say } from "../page.js";
import { swapParts } from "../parts.js";
import { getHtml } from "../requests.js";
import { forgetUpload, takeFiles, watchUploads } from "../uploads/uploads.js";

const GATHER_MS = 250;

function voice() {
  return {
    dropping: false,

    init() {
      this.hearing = new Hearing();
      this.loadHearing();
      const gather = oneAtATime(() => this.draw(), GATHER_MS);
      watchChanges((told, all) => {
        if (all || told.some((each) => String(each.job) === this.$root.dataset.job)) gather();
      });
      watchDrops((on) => (this.dropping = on), (files) => this.take(files));
      watchUploads((told) => this.showUploads(told));
      onKeys({
        ...hearingKeys(this.hearing),
        d: () => this.follow("[data-download]", (address) => location.assign(address)),
        c: () => this.follow("[data-compare]"),
        o: () => this.follow("[data-proof]"),
        p: () => this.follow("[data-prepare]"),
        a: () => this.choose(),
        Escape: () => leaveFor(this.$root.dataset.board),
      });
    },

    follow(selector, go = leaveFor) {
      const link = this.$root.querySelector(selector);
      if (link) go(link.href);
      else say("It is not done yet.");
    },

    async draw() {
      try {
        swapParts(await getHtml(this.$root.dataset.parts));
        this.loadHearing();
      } catch (error) {
        say(error.message);
      }
    },

    loadHearing() {
      this.hearing.load(this.$root.querySelector("[data-hear-root]"));
    },

    choose() {
      this.$refs.files.click();
    },

    takeChosen({ target }) {
      const files = [...target.files];
      target.value = "";
      this.take(files);
    },

    take(files) {
      if (files.length) takeFiles(this.$root.dataset.job, this.$root.dataset.upload, files);
    },

    showUploads(told) {
      const here = told.filter((each) => each.job === this.$root.dataset.job);
      this.$refs.coming.replaceChildren(...here.map((each) => this.uploadOf(each)));
    },

    uploadOf({ id, name, size, sent, state, message }) {
      const article = this.$refs.upload.content.cloneNode(true).firstElementChild;
      article.querySelector("h2").textContent = name;
      article.querySelector("progress").value = size ? sent / size : 1;
      article.querySelector(".fig").textContent = `${Math.floor((100 * sent) / (size || 1))} %`;
      const word = article.querySelector("em");
      word.classList.toggle("bad", state === "failed");
      word.textContent = state === "failed" ? `▮ ${message}` : "being taken in";
      article.querySelector("button").addEventListener("click", () => forgetUpload(id));
      return article;
    },
  };
}

Alpine.data("page", page);
Alpine.data("voice", voice);
Alpine.start();
