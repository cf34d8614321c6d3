// The Reading screen: looking, moving, hearing. Every figure on it was computed on the server.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { clock as toClock } from "../chart.js";
import { leaveFor, loadAnew } from "../going.js";
import { Hearing, hearingKeys } from "../hear/hearing.js";
import { onKeys, page, say } from "../page.js";
import { parsed, swapPart } from "../parts.js";
import { getHtml, post } from "../requests.js";
import { undoKeys } from "../undo.js";
import { Parts } from "./parts.js";
import { bandText, Painter } from "./strips.js";
import { View } from "./view.js";

const ZOOM_STEP = 0.5, WHEEL_STEP = 0.0016, MOVE_SHARE = 0.15, LEAST_AROUND_S = 0.25, MOST_LIFT = 64;

// Down to the millisecond.
const clock = (atS) => toClock(atS, 3);

function reading() {
  // Not part of what Alpine watches: large, and drawn by hand.
  let data, view, parts, painter, series, hearing;
  let waiting = false;

  return {
    cursorS: 0,
    readout: "",
    spanText: "",
    note: null, // number of the chosen note
    place: 0,

    init() {
      data = JSON.parse(this.$refs.data.textContent);
      view = new View(data.duration_s, data.rate_hz);
      parts = new Parts(this.$root.dataset, () => this.refresh());
      painter = new Painter(this.$refs.canvas, data);
      this.fit(); // before the first look of the pointer
      hearing = new Hearing((atS) => this.follow(atS));
      hearing.load(this.$root.querySelector("[data-hear-root]"));
      this.loadSeries();
      if ("atOnce" in document.getElementById("speech").dataset) this.loadSpeech();
      this.watchPointer();
      this.watchKeys();
      new ResizeObserver(() => this.fit()).observe(this.$refs.time);
      new MutationObserver(() => this.refresh()).observe(document.documentElement, { attributeFilter: ["data-bs-theme"] });
      document.fonts.ready.then(() => this.refresh());
    },

    async loadSeries() {
      try {
        const values = new Float32Array(await (await fetch(this.$root.dataset.series)).arrayBuffer());
        const count = values.length / 3;
        const row = (at) => values.subarray(at * count, (at + 1) * count);
        series = { momentary: row(0), shortTerm: row(1), correlation: row(2) };
        this.refresh();
      } catch {
        say("The curves could not be loaded. Is Nice Level still running?");
      }
    },

    // All of the file is heard for it: what takes long says so.
    async loadSpeech() {
      const part = document.getElementById("speech");
      part.querySelector("dd").textContent = "listening…";
      try {
        swapPart(part, parsed(await getHtml(part.dataset.at)).querySelector("#speech"));
      } catch (error) {
        say(error.message);
      }
    },

    fit() {
      const { clientWidth, clientHeight } = this.$refs.time;
      painter.fit(clientWidth, clientHeight);
      this.refresh();
    },

    // Draws once before the next frame, however much has changed.
    refresh() {
      if (waiting) return;
      waiting = true;
      requestAnimationFrame(() => {
        waiting = false;
        this.draw();
      });
    },

    draw() {
      if (!painter.strips) return;
      const detail = painter.draw(view, parts, series, this);
      this.spanText = `${clock(view.firstS)} – ${clock(view.lastS)}`;
      Object.assign(this.$root.dataset, { first: view.firstS, last: view.lastS, cursor: this.cursorS, detail });
    },

    zoom(factor, atS) {
      const middle = view.holds(this.cursorS) ? this.cursorS : (view.firstS + view.lastS) / 2;
      view.zoom(factor, atS ?? middle);
      this.refresh();
    },

    move(share) {
      view.move(share);
      this.refresh();
    },

    // A quiet waveform is looked at taller.
    raise(factor) {
      painter.lift = Math.min(MOST_LIFT, Math.max(1, painter.lift * factor));
      this.refresh();
    },

    whole() {
      view.whole();
      this.refresh();
    },

    setCursor(atS) {
      this.cursorS = Math.min(Math.max(0, atS), data.duration_s);
      hearing.seek(this.cursorS);
      this.refresh();
    },

    toNote(event) {
      const number = Number(event.currentTarget.dataset.note);
      const again = number === this.note;
      this.goTo(number, again ? (this.place + 1) % data.notes[number].places.length : 0);
    },

    // Shows one place of a note with something around it, and puts the cursor on it.
    goTo(number, place) {
      const [firstS, lastS] = data.notes[number].places[place];
      const aroundS = Math.max(LEAST_AROUND_S, lastS - firstS);
      this.note = number;
      this.place = place;
      view.show(firstS - aroundS, lastS + aroundS);
      for (const button of this.$root.querySelectorAll("[data-note]")) {
        button.setAttribute("aria-current", Number(button.dataset.note) === number);
      }
      this.setCursor(firstS);
    },

    // The next place of any note, in time, after or before the cursor.
    walkNotes(direction) {
      const places = data.notes.flatMap((note, number) => note.places.map(([atS], place) => ({ atS, number, place })));
      const ahead = places.filter(({ atS }) => direction * (atS - this.cursorS) > 1e-4);
      if (!ahead.length) return say(direction > 0 ? "No note after this." : "No note before this.");
      ahead.sort((one, other) => direction * (one.atS - other.atS));
      return this.goTo(ahead[0].number, ahead[0].place);
    },

    async copy() {
      try {
        await navigator.clipboard.writeText(this.$refs.text.textContent);
        say("All figures are on the clipboard.");
      } catch {
        say("The browser does not let this page copy.");
      }
    },

    // The cursor goes with the sound; the view turns the page when it leaves.
    follow(atS) {
      this.cursorS = atS;
      if (hearing.isPlaying && !view.holds(atS)) view.show(atS, atS + view.spanS);
      this.refresh();
    },

    watchPointer() {
      const canvas = this.$refs.canvas;
      canvas.addEventListener("wheel", (event) => this.onWheel(event), { passive: false });
      canvas.addEventListener("pointerdown", (event) => this.onPress(event));
      canvas.addEventListener("pointermove", (event) => this.onMove(event));
      canvas.addEventListener("pointerup", () => (this.dragging = null));
      canvas.addEventListener("pointerleave", () => this.hover(null));
    },

    onWheel(event) {
      event.preventDefault();
      const sideways = event.shiftKey || Math.abs(event.deltaX) > Math.abs(event.deltaY);
      if (sideways) return this.move((event.deltaX || event.deltaY) * WHEEL_STEP * 0.5);
      return this.zoom(Math.exp(event.deltaY * WHEEL_STEP), painter.seconds(event.offsetX));
    },

    onPress(event) {
      const { notes, all, axis, x0, x1 } = painter.strips;
      const { offsetX: x, offsetY: y } = event;
      if (y < notes.bottom) return this.pressMark(x);
      if (y < axis.bottom && x >= x0 - 4 && x <= x1 + 4) return this.setCursor(painter.seconds(x));
      if (y < all.top || y > all.bottom) return null;
      this.dragging = "all";
      this.$refs.canvas.setPointerCapture(event.pointerId);
      return this.dragOverview(x);
    },

    pressMark(x) {
      const near = painter.marks.filter((mark) => x >= mark.x - 6 && x <= mark.x + 70).pop();
      if (near) this.goTo(near.number, near.place);
    },

    dragOverview(x) {
      const { x0, x1 } = painter.strips;
      const middle = ((x - x0) / (x1 - x0)) * data.duration_s, half = view.spanS / 2;
      view.show(middle - half, middle + half);
      this.refresh();
    },

    onMove(event) {
      if (this.dragging) this.dragOverview(event.offsetX);
      this.hover(event);
    },

    // Says what is under the pointer: a band of the spectrum, or time and loudness.
    hover(event) {
      const { spectrum, axis, x0, x1 } = painter.strips;
      this.spectrumBand = null;
      this.readout = "";
      if (event && event.offsetX >= x0 && event.offsetX <= x1) {
        if (event.offsetY >= spectrum.top && event.offsetY <= spectrum.bottom) this.readBand(event.offsetX);
        else if (event.offsetY < axis.top) this.readTime(event.offsetX);
      }
      this.refresh();
    },

    readBand(x) {
      const hz = painter.hzOf(x);
      const bands = data.spectrum;
      if (!bands.length) return;
      const near = bands.reduce((best, band) => (Math.abs(Math.log(band[0] / hz)) < Math.abs(Math.log(best[0] / hz)) ? band : best));
      this.spectrumBand = near;
      this.readout = bandText(near);
    },

    readTime(x) {
      const atS = painter.seconds(x);
      const at = Math.floor(atS * 10) - 1;
      const value = (row) => (row && Number.isFinite(row[at]) ? row[at].toFixed(1).replace("-", "−") : "–");
      this.readout = `${clock(atS)}   M ${value(series?.momentary)}  S ${value(series?.shortTerm)} LUFS`;
    },

    mendAll() {
      return this.mend([]);
    },

    mendOne({ currentTarget }) {
      return this.mend([["note", currentTarget.dataset.mend]]);
    },

    // What is noted of the source, all of it or what has one code.
    async mend(notes) {
      try {
        const { mended } = await post(this.$root.dataset.mendAt, [...notes, ["source", this.$root.dataset.source]]);
        if (mended) loadAnew("Mended; Z takes it back.");
        else say("Nothing is noted that a step could mend and none does yet.");
      } catch (error) {
        say(error.message);
      }
    },

    watchKeys() {
      const actions = {
        ...hearingKeys(hearing),
        "+": () => this.zoom(ZOOM_STEP),
        "=": () => this.zoom(ZOOM_STEP),
        "-": () => this.zoom(1 / ZOOM_STEP),
        ArrowLeft: () => this.move(-MOVE_SHARE),
        ArrowRight: () => this.move(MOVE_SHARE),
        ArrowUp: () => this.raise(2),
        ArrowDown: () => this.raise(0.5),
        0: () => this.whole(),
        ",": () => this.walkNotes(-1),
        ".": () => this.walkNotes(1),
        n: () => this.mendAll(),
        p: () => leaveFor(this.$root.querySelector("[data-open-prepare]").href),
        c: () => this.copy(),
        Escape: () => leaveFor(this.$root.querySelector("[data-board]").href),
      };
      onKeys(actions);
      undoKeys(this.$root.dataset.undo);
    },
  };
}

Alpine.data("page", page);
Alpine.data("reading", reading);
Alpine.start();
