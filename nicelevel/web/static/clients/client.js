// What a client is shown: choosing a file, hearing it, saying what they think of it.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { clock } from "../chart.js";
import { Hearing, hearingKeys } from "../hear/hearing.js";
import { onKeys, page } from "../page.js";
import { swapParts } from "../parts.js";
import { getHtml, post } from "../requests.js";

function client() {
  const shared = page(); // the theme, and words to the person
  return {
    theme: shared.theme,
    word: "",
    chosen: "",
    title: "",
    lengthS: 0,
    atS: 0,

    init() {
      this.hearing = new Hearing((atS) => this.moved(atS));
      addEventListener("say", (event) => this.say(event.detail));
      this.$root.addEventListener("click", ({ target }) => this.choose(target.closest("[data-hear-at]")));
      const { e, ".": next, ",": before, ...keys } = hearingKeys(this.hearing);
      onKeys({ ...keys, ArrowUp: () => this.walk(-1), ArrowDown: () => this.walk(1) });
      this.choose(this.buttons()[0], false);
    },

    say: shared.say,
    switchTheme: shared.switchTheme,

    get themeLabel() {
      return this.theme === "dark" ? "Light room" : "Dim room";
    },

    get placeWords() {
      return `${clock(this.atS, 1)} / ${clock(this.lengthS)}`;
    },

    buttons() {
      return [...this.$root.querySelectorAll("[data-hear-at]")];
    },

    walk(by) {
      const all = this.buttons(), at = all.findIndex((each) => each.dataset.hearAt === this.chosen);
      this.choose(all[Math.min(Math.max(at + by, 0), all.length - 1)], false);
    },

    async choose(button, plays = true) {
      if (!button) return;
      const { hearAt, answerAt, title, seconds } = button.dataset;
      if (hearAt === this.chosen) {
        if (plays) this.hearing.soon(() => this.hearing.toggle());
        return;
      }
      Object.assign(this, { chosen: hearAt, answerAt, title, lengthS: Number(seconds) });
      this.mark();
      this.hearing.expect(hearAt);
      if (plays) this.hearing.asked.push(() => this.hearing.play());
      try {
        const html = await getHtml(hearAt);
        if (hearAt !== this.chosen) return;
        const { transport } = this.$refs;
        transport.innerHTML = html;
        this.hearing.load(transport.querySelector("[data-hear-root]"), transport.querySelector("[data-kind=made]").dataset.take);
      } catch (error) {
        this.hearing.forget();
        this.say(error.message);
      }
    },

    mark() {
      for (const each of this.buttons()) each.closest("tr").classList.toggle("chosen", each.dataset.hearAt === this.chosen);
    },

    moved(atS) {
      this.atS = atS;
      const { place } = this.$refs;
      place.max = String(Math.max(this.lengthS, 0.1));
      place.value = String(atS);
      place.setAttribute("aria-valuetext", clock(atS, 1));
    },

    seek({ target }) {
      this.hearing.seek(Number(target.value));
    },

    here() {
      this.$refs.from.value = clock(this.atS, 1);
      this.$refs.note.focus();
    },

    accept() {
      return this.answer({ verdict: "accepted" }, "Accepted.");
    },

    async send(event) {
      event.preventDefault();
      const { from, note } = this.$refs;
      const isKept = await this.answer({ verdict: "change", note: note.value, from_s: from.value }, "Asked for.");
      if (isKept) from.value = note.value = "";
    },

    async answer(fields, words) {
      try {
        await post(this.answerAt, fields);
        swapParts(await getHtml(this.$root.dataset.parts));
        this.mark();
        this.say(words);
        return true;
      } catch (error) {
        this.say(error.message);
        return false;
      }
    },
  };
}

Alpine.data("client", client);
Alpine.start();
