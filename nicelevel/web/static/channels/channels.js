// The Channels view: shares are changed here; what they mean is drawn and said by the server.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { watchChanges } from "../changes.js";
import { leaveFor } from "../going.js";
import { Hearing, hearingKeys } from "../hear/hearing.js";
import { onKeys, page, say } from "../page.js";
import { parsed, swapPart } from "../parts.js";
import { getJson, post, postForHtml } from "../requests.js";
import { undoKeys } from "../undo.js";

const STEP_DB = 0.5, LARGE_STEP_DB = 3, SETTLED_MS = 400, PX_PER_STEP = 4, LOWEST_DB = -60, HIGHEST_DB = 20;

const db = (share) => 20 * Math.log10(Math.abs(share));
const clamped = (value) => Math.min(HIGHEST_DB, Math.max(LOWEST_DB, value));

function channels() {
  return {
    at: [0, 0], // row and column of the chosen crossing
    asked: 0,
    levels: null, // of each channel alone, in words
    sum: null, // whether the programmes of the file add up to its mix
    dragged: null, // { row, column, from, db, sign }

    init() {
      const drawn = this.$refs.drawn;
      this.crossing = this.told();
      drawn.addEventListener("focusin", ({ target }) => this.choose(target.closest(".crossing")));
      drawn.addEventListener("pointerdown", (event) => this.startDrag(event));
      addEventListener("pointermove", (event) => this.drag(event));
      for (const name of ["pointerup", "pointercancel"]) addEventListener(name, () => (this.dragged = null));
      drawn.addEventListener("click", ({ target }) => target.closest("[data-have]") && this.keep());
      drawn.addEventListener("submit", (event) => this.takeApart(event));
      undoKeys(this.$root.dataset.undo);
      this.hearing = new Hearing();
      this.hearing.load(document.querySelector("#channels-hear [data-hear-root]"));
      onKeys({
        ...hearingKeys(this.hearing),
        ArrowUp: () => this.walk(-1, 0),
        ArrowDown: () => this.walk(1, 0),
        ArrowLeft: () => this.walk(0, -1),
        ArrowRight: () => this.walk(0, 1),
        "+": ({ shiftKey, code }) => this.louder(shiftKey && code.startsWith("Numpad") ? LARGE_STEP_DB : STEP_DB),
        "-": () => this.louder(-STEP_DB),
        "*": () => this.louder(LARGE_STEP_DB),
        _: () => this.louder(-LARGE_STEP_DB),
        i: () => this.change((share) => -share),
        0: () => this.change((share) => (share ? 0 : 1)),
        Enter: () => this.keep(),
        p: () => leaveFor(this.$root.dataset.prepare),
        Escape: () => leaveFor(this.$root.dataset.board),
        u: () => this.nextPreset(1),
        U: () => this.nextPreset(-1),
      });
      addEventListener("resize", () => this.draw());
      watchChanges((told, all) => (all || told.some((each) => String(each.source) === this.$root.dataset.source)) && !this.dragged && this.draw());
      this.mark();
      this.draw();
      this.tellAlone();
    },

    told() {
      return JSON.parse(document.getElementById("channels").dataset.crossing);
    },

    presets() {
      return [...this.$root.querySelectorAll("[data-preset]")];
    },

    take({ target }) {
      this.takePreset(target.closest("[data-preset]"));
    },

    takePreset(button) {
      if (!button) return;
      this.crossing = JSON.parse(button.dataset.preset);
      this.draw();
    },

    // From the usual way that it is now, or from the first.
    nextPreset(by) {
      const all = this.presets(), at = all.findIndex((each) => each.getAttribute("aria-pressed") === "true");
      this.takePreset(all[(at + by + all.length) % all.length]);
    },

    choose(crossing) {
      if (!crossing) return;
      this.at = [Number(crossing.dataset.row), Number(crossing.dataset.column)];
      this.mark();
    },

    walk(down, right) {
      const { rows } = this.crossing;
      const [row, column] = this.at;
      this.at = [Math.min(rows.length - 1, Math.max(0, row + down)), Math.min(rows[0].length - 1, Math.max(0, column + right))];
      this.mark(true);
    },

    // The chosen crossing is the one that Tab comes to.
    mark(takesFocus = false) {
      const { rows } = this.crossing;
      this.at = [Math.min(this.at[0], rows.length - 1), Math.min(this.at[1], rows[0].length - 1)];
      for (const each of this.$refs.drawn.querySelectorAll(".crossing")) {
        const isChosen = Number(each.dataset.row) === this.at[0] && Number(each.dataset.column) === this.at[1];
        each.classList.toggle("chosen", isChosen);
        each.setAttribute("tabindex", isChosen ? "0" : "-1");
        if (isChosen && takesFocus) each.focus();
      }
      const now = JSON.stringify(this.crossing);
      for (const each of this.presets()) each.setAttribute("aria-pressed", String(JSON.stringify(JSON.parse(each.dataset.preset)) === now));
    },

    louder(by_db) {
      this.change((share) => (share ? Math.sign(share) : 1) * 10 ** (clamped((share ? db(share) : by_db > 0 ? LOWEST_DB : -by_db) + by_db) / 20));
    },

    change(changed) {
      const [row, column] = this.at;
      this.crossing = { ...this.crossing, rows: this.crossing.rows.map((each, at) => (at === row ? each.map((share, on) => (on === column ? changed(share) + 0 : share)) : each)) };
      this.draw();
    },

    startDrag(event) {
      const crossing = event.target.closest(".crossing");
      if (!crossing || event.button) return;
      event.preventDefault();
      this.choose(crossing);
      crossing.focus({ preventScroll: true });
      const share = this.crossing.rows[this.at[0]][this.at[1]];
      if (share) this.dragged = { from: event.clientY, was: db(share), sign: Math.sign(share) };
    },

    drag(event) {
      if (!this.dragged) return;
      const { from, was, sign } = this.dragged;
      const steps = Math.round((from - event.clientY) / PX_PER_STEP);
      this.change(() => sign * 10 ** (clamped(was + steps * STEP_DB) / 20));
    },

    async draw() {
      const number = ++this.asked;
      const width = Math.max(300, this.$refs.drawn.querySelector(".right").clientWidth);
      try {
        const html = await postForHtml(`${this.$root.dataset.draft}?width=${width}`, { crossing: JSON.stringify(this.crossing) });
        if (number !== this.asked) return;
        const hadFocus = Boolean(document.activeElement?.closest(".crossing"));
        const typed = document.activeElement?.closest(".apart input");
        if (typed) return; // who types a map keeps the field; the next change draws again
        swapPart(document.getElementById("channels"), parsed(html).querySelector("#channels"));
        swapPart(document.getElementById("channels-hear"), parsed(html).querySelector("#channels-hear"));
        this.hearing.load(document.querySelector("#channels-hear [data-hear-root]"));
        this.mark(hadFocus);
        this.showAlone();
        this.tellLevelSoon();
      } catch (error) {
        say(error.message);
      }
    },

    // All of it is heard for that, so only once nothing is changed any more.
    tellLevelSoon() {
      clearTimeout(this.levelSoon);
      const place = this.$refs.drawn.querySelector("[data-level]"), told = JSON.stringify(this.crossing);
      if (!place) return;
      if (this.toldOf === told) return void (place.textContent = this.level);
      place.textContent = "Its level is being measured…";
      this.levelSoon = setTimeout(async () => {
        try {
          const { sentence } = await getJson(`${this.$root.dataset.levelAt}?${new URLSearchParams({ crossing: told })}`);
          [this.toldOf, this.level] = [told, sentence];
          if (JSON.stringify(this.crossing) === told) this.$refs.drawn.querySelector("[data-level]")?.replaceChildren(sentence);
        } catch (error) {
          say(error.message);
        }
      }, SETTLED_MS);
    },

    async tellAlone() {
      try {
        this.levels = (await getJson(this.$root.dataset.alone)).levels;
        this.showAlone();
        this.sum = await getJson(this.$root.dataset.sumAt);
        this.showAlone();
      } catch (error) {
        say(error.message);
      }
    },

    showAlone() {
      const sum = this.$refs.drawn.querySelector("[data-sum]");
      sum.hidden = !this.sum?.sentence;
      sum.textContent = this.sum?.sentence ?? "";
      sum.classList.toggle("bad", this.sum?.adds_up === false);
      for (const each of this.$refs.drawn.querySelectorAll("text[data-alone]")) each.textContent = this.levels?.[each.dataset.alone] ?? "…";
    },

    keepForAll(event) {
      event.preventDefault();
      event.target.closest("details").open = false;
      const told = new FormData(event.target);
      this.keep(told.getAll("with"), Boolean(told.get("one_gain")));
    },

    // also: ids of the sources that are meant with this one; hasOneGain: for all of them.
    async keep(also = [], hasOneGain = false) {
      if (!also.length && this.isKept()) return say("So it is already.");
      try {
        const { kept } = await post(this.$root.dataset.keep, [["crossing", JSON.stringify(this.crossing)], ...also.map((id) => ["with", id]), ...(hasOneGain ? [["one_gain", "1"]] : [])]);
        await this.draw();
        const many = `The channels of ${kept} sources are so now${hasOneGain ? ", and they have one gain" : ""}.`;
        say(kept > 1 ? many : "Its channels are so now.");
      } catch (error) {
        say(error.message);
      }
    },

    // What is drawn may be older than what was changed since.
    isKept() {
      return "kept" in document.getElementById("channels").dataset && JSON.stringify(this.told()) === JSON.stringify(this.crossing);
    },

    async takeApart(event) {
      event.preventDefault();
      const asked = event.submitter?.name === "each" ? { each: "1" } : { map: event.target.elements.map.value };
      try {
        const { made, board } = await post(this.$root.dataset.apart, asked);
        sessionStorage.setItem("say", `${made} sources of one file; the audio is there once. Z takes it back.`);
        leaveFor(board);
      } catch (error) {
        say(error.message);
      }
    },
  };
}

Alpine.data("page", page);
Alpine.data("channels", channels);
Alpine.start();
