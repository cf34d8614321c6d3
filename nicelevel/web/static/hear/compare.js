// Before and after: looking at both on one axis, hearing both at one loudness, telling them apart blind.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { oneAtATime, watchChanges } from "../changes.js";
import { leaveFor } from "../going.js";
import { onKeys, page, say } from "../page.js";
import { swapParts } from "../parts.js";
import { getHtml, postForHtml } from "../requests.js";
import { View } from "../reading/view.js";
import { clock } from "../chart.js";
import { Drawing } from "./drawing.js";
import { Hearing, hearingKeys, ratio } from "./hearing.js";
import { Take } from "./player.js";

const ZOOM_STEP = 0.5, WHEEL_STEP = 0.0016, MOVE_SHARE = 0.15, MARGIN = 0.5, ROWS = 5;
const NOISE_DB = 48, NOISE_TAIL_S = 8, LIFTS_DB = [0, 12, 24, 36];

function compare() {
  let data, view, drawing, hearing, columns, overview, series, test;
  let waiting = false, asking = false;

  return {
    cursorS: 0,
    readout: "",
    spanText: "",

    // What is told of two versions, once their audio was compared.
    async tellChanged() {
      if (!document.querySelector("#changed[data-pending]")) return;
      try {
        swapParts(await getHtml(this.$root.dataset.changed));
      } catch (error) {
        say(error.message);
      }
    },

    init() {
      data = JSON.parse(this.$refs.data.textContent);
      view = new View(data.duration_s, 1000);
      drawing = new Drawing(this.$refs.canvas, data);
      hearing = new Hearing((atS) => this.goTo(atS));
      hearing.load(this.$root.querySelector("[data-hear-root]"));
      this.fit();
      this.loadSeries();
      this.watch();
      watchChanges(oneAtATime(() => this.tellChanged(), 0));
      new ResizeObserver(() => this.fit()).observe(this.$refs.time);
      new MutationObserver(() => this.refresh()).observe(document.documentElement, { attributeFilter: ["data-bs-theme"] });
      document.fonts.ready.then(() => this.refresh());
    },

    watch() {
      const canvas = this.$refs.canvas;
      canvas.addEventListener("wheel", (event) => this.onWheel(event), { passive: false });
      canvas.addEventListener("pointerdown", (event) => this.onPress(event));
      canvas.addEventListener("pointermove", (event) => this.onMove(event));
      canvas.addEventListener("pointerup", () => (this.dragging = false));
      canvas.addEventListener("pointerleave", () => (this.readout = ""));
      this.$root.addEventListener("click", (event) => this.onClick(event));
      const actions = {
        ...hearingKeys(hearing),
        "+": () => this.zoom(ZOOM_STEP),
        "=": () => this.zoom(ZOOM_STEP),
        "-": () => this.zoom(1 / ZOOM_STEP),
        ArrowLeft: () => this.look(() => view.move(-MOVE_SHARE)),
        ArrowRight: () => this.look(() => view.move(MOVE_SHARE)),
        0: () => this.look(() => view.whole()),
        f: () => this.nextOf("finish"),
        u: () => this.nextOf("lift"),
        n: () => this.nextOf("noise"),
        q: () => this.beginBlind(this.$root.querySelector("[data-begin]")),
        a: () => this.hearBlind("one"),
        s: () => this.hearBlind("other"),
        x: () => this.hearBlind("hidden"),
        A: () => this.answerBlind("one"),
        S: () => this.answerBlind("other"),
        Escape: () => leaveFor(this.$root.querySelector("[data-board]").href),
      };
      onKeys(actions);
    },

    address(name, more = "") {
      const { against, [name]: address } = this.$root.dataset;
      return `${address}?${against ? `against=${against}&` : ""}${more}`;
    },

    async loadSeries() {
      const values = await this.floats(this.address("series"));
      if (!values) return;
      const count = values.length / 2;
      series = { shortTerm: [values.subarray(0, count), values.subarray(count)] };
      this.refresh();
    },

    async floats(address) {
      try {
        const answer = await fetch(address);
        if (!answer.ok) throw new Error(answer.status);
        return new Float32Array(await answer.arrayBuffer());
      } catch {
        say("What is drawn could not be loaded. Is Nice Level still running?");
        return null;
      }
    },

    // The part that is looked at with something on either side; while it comes, what is here is drawn.
    async loadColumns() {
      if (asking) return;
      asking = true;
      const spanS = view.spanS, pixels = drawing.strips.x1 - drawing.strips.x0;
      const firstS = Math.max(0, view.firstS - MARGIN * spanS), lastS = Math.min(data.duration_s, view.lastS + MARGIN * spanS);
      const count = Math.round((pixels * (lastS - firstS)) / spanS);
      const values = await this.floats(this.address("columns", `first=${firstS}&last=${lastS}&count=${count}`));
      asking = false;
      if (!values) return;
      const each = values.length / ROWS;
      columns = { firstS, lastS, spanS, rows: Array.from({ length: ROWS }, (_, at) => values.subarray(at * each, (at + 1) * each)) };
      overview ??= columns;
      this.refresh();
      this.keepUp();
    },

    // Asks for columns where those that are here are too coarse, too fine or elsewhere.
    keepUp() {
      const fits = columns && view.firstS >= columns.firstS - 1e-6 && view.lastS <= columns.lastS + 1e-6;
      if (!fits || columns.spanS > 1.5 * view.spanS || columns.spanS < 0.6 * view.spanS) this.loadColumns();
    },

    fit() {
      const { clientWidth, clientHeight } = this.$refs.time;
      drawing.fit(clientWidth, clientHeight);
      this.keepUp();
      this.refresh();
    },

    refresh() {
      if (waiting) return;
      waiting = true;
      requestAnimationFrame(() => {
        waiting = false;
        drawing.draw(view, { columns, overview, series }, { gains: this.gains(), cursorS: this.cursorS });
        this.spanText = `${clock(view.firstS, 1)} – ${clock(view.lastS, 1)}`;
        Object.assign(this.$root.dataset, { first: view.firstS, last: view.lastS, drawn: columns ? "yes" : "" });
      });
    },

    // Waveforms are drawn at the levels at which they are heard: the same loudness, or what they are.
    gains() {
      if (hearing.levels === "real") return [1, 1];
      const gain = (selector) => ratio(this.$root.querySelector(selector)?.dataset.gain ?? 0);
      const { against } = this.$root.dataset;
      return against ? [gain(`[data-take="${against}"]`), gain("[data-kind=source]")] : [gain("[data-kind=source]"), gain("[data-kind=plan]")];
    },

    look(change) {
      change();
      this.keepUp();
      this.refresh();
    },

    zoom(factor, atS) {
      this.look(() => view.zoom(factor, atS ?? (view.holds(this.cursorS) ? this.cursorS : (view.firstS + view.lastS) / 2)));
    },

    // The cursor goes with the sound; the view turns the page when it leaves.
    goTo(atS) {
      this.cursorS = atS;
      if (!view.holds(atS)) this.look(() => view.show(atS - 0.05 * view.spanS, atS + 0.95 * view.spanS));
      this.refresh();
    },

    onWheel(event) {
      event.preventDefault();
      const sideways = event.shiftKey || Math.abs(event.deltaX) > Math.abs(event.deltaY);
      if (sideways) return this.look(() => view.move((event.deltaX || event.deltaY) * WHEEL_STEP * 0.5));
      return this.zoom(Math.exp(event.deltaY * WHEEL_STEP), drawing.seconds(event.offsetX));
    },

    onPress(event) {
      const { x0, x1, all, axis } = drawing.strips, { offsetX: x, offsetY: y } = event;
      if (x < x0 - 4 || x > x1 + 4) return;
      if (y < axis.bottom) return hearing.seek(Math.min(data.duration_s, Math.max(0, drawing.seconds(x))));
      if (y < all.top) return;
      this.dragging = true;
      this.$refs.canvas.setPointerCapture(event.pointerId);
      this.onMove(event);
    },

    onMove(event) {
      this.readout = drawing.readout(event.offsetX, event.offsetY, series);
      if (!this.dragging) return;
      const { x0, x1 } = drawing.strips, half = view.spanS / 2;
      const middle = ((event.offsetX - x0) / (x1 - x0)) * data.duration_s;
      this.look(() => view.show(middle - half, middle + half));
    },

    onClick(event) {
      const button = event.target.closest("button");
      if (!button) return;
      const { lift, finish, noise, hearBlind, said } = button.dataset;
      if (lift !== undefined) this.lift(button);
      if (finish) this.finish(button);
      if (noise) this.noise(button);
      if ("begin" in button.dataset) this.beginBlind(button);
      if (hearBlind) this.hearBlind(hearBlind);
      if (said) this.answerBlind(said);
      if (button.dataset.hear === "levels") this.refresh();
    },

    // The next of a row of choices, by key.
    nextOf(kind) {
      const buttons = [...this.$root.querySelectorAll(`[data-${kind}]`)];
      if (!buttons.length) return say("There is nothing of that kind here.");
      const at = buttons.findIndex((button) => button.getAttribute("aria-pressed") === "true");
      return this[kind](buttons[(at + 1) % buttons.length]);
    },

    press(button) {
      for (const each of button.parentElement.children) each.setAttribute("aria-pressed", each === button);
    },

    lift(button) {
      this.press(button);
      hearing.boostDb = LIFTS_DB.find((lift) => String(lift) === button.dataset.lift);
      for (const take of hearing.ready().takes.values()) if (take.key.startsWith("less ")) take.boost = ratio(hearing.boostDb);
      hearing.player.setLevels(hearing.levels);
    },

    // How the plan is heard: as it is computed, rounded to its word length, through its encoder.
    async finish(button) {
      this.press(button);
      const player = hearing.ready(), plan = this.$root.querySelector("[data-kind=plan]");
      const key = plan.dataset.take, { finish } = button.dataset, heard = `${key} ${finish}`;
      const take = hearing.takeOf(plan, player.rateHz, Number(hearing.root.dataset.most));
      Object.assign(take, { key: heard, query: `${take.query}&finish=${finish}` });
      hearing.added(heard, () => take);
      await hearing.choose(finish === "exact" ? key : heard);
    },

    // Only what rounding adds, from shortly before the fade-out on.
    async noise(button) {
      this.press(button);
      const player = hearing.ready(), plan = this.$root.querySelector("[data-kind=plan]").dataset;
      const key = `noise ${button.dataset.noise}`, seconds = Number(plan.seconds);
      hearing.added(key, () => new Take({ key, address: button.dataset.address, query: `?s=${plan.stamp}`, frames: Math.ceil(seconds * player.rateHz), gains: { matched: 1 }, boost: ratio(NOISE_DB), most: Number(hearing.root.dataset.most) }));
      await hearing.choose(key);
      if (player.atS < seconds - NOISE_TAIL_S) hearing.seek(Math.max(0, seconds - NOISE_TAIL_S));
      if (!hearing.isPlaying) hearing.play();
    },

    async beginBlind(button) {
      if (!button) return;
      const { one, other } = button.dataset, { blind, destination } = this.$root.dataset;
      await this.trial(() => postForHtml(blind, { one, other, destination }));
      test.keys = { one, other };
      say("Hear A, B and X as often as you like, then say which one X is.");
    },

    // Puts the next trial in its place; what it hides is one more take of the player.
    async trial(ask) {
      const place = this.$root.querySelector("[data-blind-place]");
      try {
        place.innerHTML = await ask();
      } catch (error) {
        return say(error.message);
      }
      const { trial, test: id } = place.firstElementChild.dataset;
      test = { ...test, id, trial, hidden: `blind ${id} ${trial}` };
      const player = hearing.ready(), frames = player.takes.get(hearing.pair()[0]).frames;
      hearing.setLevels("matched");
      player.add(new Take({ key: test.hidden, address: `/blind/${id}/${trial}/${player.rateHz}`, frames, gains: { matched: 1 } }));
      player.ready = [...Object.values(test.keys ?? {}), test.hidden];
      if (player.key.startsWith("blind ")) this.hearBlind("hidden");
    },

    async hearBlind(which) {
      if (!test) return say("A blind comparison begins with Q.");
      const key = which === "hidden" ? test.hidden : test.keys[which];
      for (const each of this.$root.querySelectorAll("[data-hear-blind]")) each.setAttribute("aria-pressed", each.dataset.hearBlind === which);
      await hearing.choose(key);
      if (!hearing.isPlaying) hearing.play();
    },

    async answerBlind(said) {
      if (!test) return;
      const { id, trial } = test;
      await this.trial(() => postForHtml(`/blind/${id}/answer`, { trial, said }));
    },
  };
}

Alpine.data("page", page);
Alpine.data("compare", compare);
Alpine.start();
