// The Prepare screen: steps changed, ordered, added; what is drawn comes from the server.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { watchChanges } from "../changes.js";
import { askText } from "../ask.js";
import { leaveFor, loadAnew } from "../going.js";
import { onKeys, page, say } from "../page.js";
import { heirOf, inherit, keepingFocus, parsed, swapPart } from "../parts.js";
import { Hearing, hearingKeys } from "../hear/hearing.js";
import { getHtml, post, postForHtml } from "../requests.js";
import { undoKeys } from "../undo.js";
import { number, valueOf } from "./figures.js";
import { kindOf, pairs } from "./pairs.js";

const TYPED_MS = 120, DRAGGED_MS = 30;
const MARGINS = 26 + 300 + 104 + 24 + 36;

function prepare() {
  return {
    timer: null, // until what is typed is saved
    isTypedToBeSaved: false, // when its turn comes
    dragTimer: null,
    at: 0,
    wanted: null, // { at, held }: the step that is to have the focus once it is drawn, if what held it then still does
    dragged: null, // { section, field, from, at, ... } of the line that is dragged on a strip
    asked: 0, // drawings that were asked for: an older one never takes the place of a newer
    landing: null, // the newest of them
    turn: Promise.resolve(), // until the last change is drawn

    init() {
      const rows = this.$refs.rows;
      this.hearing = new Hearing();
      this.loadHearing();
      rows.addEventListener("focusin", (event) => this.noteFocus(event));
      rows.addEventListener("input", () => this.saveSoon());
      rows.addEventListener("change", () => this.saveSoon(0));
      rows.addEventListener("keydown", (event) => this.onFieldKey(event));
      rows.addEventListener("pointerdown", (event) => this.startDrag(event));
      addEventListener("pointermove", (event) => this.drag(event));
      for (const name of ["pointerup", "pointercancel"]) addEventListener(name, () => this.endDrag());
      this.$refs.add.addEventListener("click", (event) => this.add(event.target.closest("[data-add-step]")));
      const shown = (words) => this.draw().then(() => say(words));
      undoKeys(this.$root.dataset.undo, shown, (change) => this.onceKept(change));
      watchChanges((told, all) => {
        const here = told.some((each) => String(each.source) === this.$root.dataset.source);
        if ((all || here) && !this.dragged) this.draw();
      });
      addEventListener("resize", () => this.draw());
      onKeys({
        ...hearingKeys(this.hearing),
        ArrowUp: (event) => this.walk(-1, event),
        ArrowDown: (event) => this.walk(1, event),
        Enter: () => this.here()?.querySelector("[data-key]")?.focus(),
        h: () => this.hearAfter(),
        d: () => this.hearAlone(),
        0: () => this.changeHere((at) => this.switchOff(at)),
        Delete: () => this.changeHere((at) => this.takeOut(at)),
        k: () => this.keep(),
        a: () => this.$refs.add.querySelector("button").focus(),
        Escape: () => this.leave(),
      });
      addEventListener("keydown", (event) => {
        if (!event.altKey || !["ArrowUp", "ArrowDown"].includes(event.key)) return;
        event.preventDefault();
        this.changeHere((at) => this.move(at, event.key === "ArrowUp" ? -1 : 1));
      });
      this.draw();
    },

    sections() {
      return [...this.$refs.rows.querySelectorAll("section.step")];
    },

    // The step that has the focus; where drawing anew has lost that, the one that had it last.
    here() {
      return isLost() ? this.sections()[this.at] : document.activeElement?.closest("section.step");
    },

    // Who has gone on to something else while a change was being kept stays there.
    focusWanted() {
      const { at, held } = this.wanted ?? {}, step = this.sections().at(at);
      this.wanted = null;
      if (!held || !step || heirOf(held) !== document.activeElement) return;
      step.focus();
      if (!held.isConnected) inherit(held, step);
    },

    // Changes are made one after the other, each of what the one before it left.
    inTurn(change) {
      this.turn = this.turn.then(change).catch((error) => say(error.message));
    },

    // Of the step that has the focus when a key is pressed, wherever that stands when its turn comes. change: gets its
    // number. A figure that is being typed is kept before, and left.
    changeHere(change) {
      const step = this.here();
      if (step?.contains(document.activeElement)) step.focus();
      this.onceKept(() => {
        const at = this.sections().indexOf(heirOf(step));
        return at < 0 ? null : change(at);
      });
    },

    // Once all that was typed and pressed is kept.
    onceKept(change) {
      if (this.timer) this.saveTyped();
      this.inTurn(change);
    },

    leave() {
      this.onceKept(() => leaveFor(this.$root.dataset.board));
    },

    noteFocus({ target }) {
      const at = this.sections().indexOf(target.closest("section.step"));
      if (at >= 0) this.at = at;
    },

    // What the chosen step leaves, from where it is heard now.
    async hearAfter() {
      const key = this.here()?.dataset.hearKey;
      if (!key || !this.hearing.ready()) return;
      await this.hearing.choose(key);
      if (!this.hearing.isPlaying) this.hearing.play();
    },

    // What the chosen step alone did: what it leaves less what came to it; pressed again, what it leaves.
    async hearAlone() {
      const key = this.here()?.dataset.hearKey, [, before, done] = key?.match(/^(.*-)(\d+)$/) ?? [];
      if (!(done > 0) || "off" in this.here().dataset || !this.hearing.ready()) return say("What a step did alone is heard of a step that is on, once all of them have listened.");
      await this.hearing.between(key, `${before}${done - 1}`);
      if (!this.hearing.isPlaying) this.hearing.play();
    },

    walk(by) {
      const all = this.sections();
      const next = all[Math.min(Math.max(all.indexOf(this.here()) + by, 0), all.length - 1)];
      next?.focus();
      next?.scrollIntoView({ block: "nearest" });
    },

    // In a figure the arrows change it; Esc leaves it.
    onFieldKey(event) {
      const field = event.target.closest("[data-key]");
      if (!field || event.altKey) return;
      if (event.key === "Escape") {
        event.stopPropagation();
        return field.closest("section").focus();
      }
      if (event.key === "Enter") return this.saveSoon(0);
      if (!("number" in field.dataset) || !["ArrowUp", "ArrowDown"].includes(event.key)) return;
      event.preventDefault();
      const by = Number(field.dataset.step) * (event.shiftKey ? 10 : 1) * (event.key === "ArrowUp" ? 1 : -1);
      const decimals = (field.dataset.step.split(".")[1] ?? "").replace(/0+$/, "").length;
      field.value = (number(field.value) + by).toFixed(decimals).replace("-", "−");
      this.saveSoon();
    },

    startDrag(event) {
      const handle = event.target.closest("[data-drag]");
      const field = handle?.closest("section").querySelector(`[data-key="${handle.dataset.drag}"]`);
      if (!field || event.button) return;
      event.preventDefault();
      const { axis, per, lowest, highest } = handle.dataset;
      const from = axis === "x" ? event.clientX : -event.clientY;
      this.dragged = { field, axis, from, per: Number(per), lowest: Number(lowest), highest: Number(highest), was: number(field.value) };
      field.closest("section").focus({ preventScroll: true });
    },

    drag(event) {
      if (!this.dragged) return;
      const { field, axis, from, per, lowest, highest, was } = this.dragged;
      const grain = (Number(field.dataset.step) / 2) * (event.shiftKey ? 0.1 : 1);
      const moved = ((axis === "x" ? event.clientX : -event.clientY) - from) * per * (event.shiftKey ? 0.1 : 1);
      const value = Math.min(highest, Math.max(lowest, Math.round((was + moved) / grain) * grain));
      field.value = String(Number(value.toFixed(4))).replace("-", "−");
      this.dragTimer ??= setTimeout(() => this.drawDraft(), DRAGGED_MS);
    },

    endDrag() {
      if (!this.dragged) return;
      this.dragged = null;
      clearTimeout(this.dragTimer);
      this.dragTimer = null;
      clearTimeout(this.timer);
      this.timer = null;
      // Told at once: a drawing that was asked for earlier may come before its turn, and puts the old figures back.
      const steps = this.told();
      if (this.areNumbers()) this.inTurn(() => this.save([...steps, ...this.told().slice(steps.length)])); // what was being added stays
    },

    // While a line is dragged: drawn, not kept, and one after the other.
    async drawDraft() {
      const steps = JSON.stringify(this.told());
      await this.draw(() => postForHtml(this.atWidth(this.$root.dataset.draft), { steps }));
      const hasMoved = this.dragged && JSON.stringify(this.told()) !== steps;
      this.dragTimer = hasMoved ? setTimeout(() => this.drawDraft(), DRAGGED_MS) : null;
    },

    // Every step as it stands in its sentences.
    told() {
      return this.sections().map((section) => {
        const step = JSON.parse(section.dataset.stored);
        for (const field of section.querySelectorAll("[data-key]")) step[field.dataset.key] = valueOf(field, step[field.dataset.key]);
        if ("off" in section.dataset) step.off = true;
        return step;
      });
    },

    // What is no number is said where it is typed, and not sent.
    areNumbers() {
      const fields = [...this.$refs.rows.querySelectorAll("input[data-number]")];
      const wrong = fields.filter(({ value }) => value.trim() === "" || Number.isNaN(number(value)));
      for (const field of fields) field.toggleAttribute("aria-invalid", wrong.includes(field));
      if (wrong.length) say(`“${wrong[0].value}” is no number: ${wrong[0].getAttribute("aria-label")} stays as it was.`);
      return !wrong.length;
    },

    saveSoon(wait_ms = TYPED_MS) {
      clearTimeout(this.timer);
      this.timer = this.areNumbers() ? setTimeout(() => this.saveTyped(), wait_ms) : null;
    },

    // What is in the figures when its turn comes; once, however much was typed until then.
    saveTyped() {
      clearTimeout(this.timer);
      this.timer = null;
      if (this.isTypedToBeSaved) return;
      this.isTypedToBeSaved = true;
      this.inTurn(() => {
        this.isTypedToBeSaved = false;
        return this.areNumbers() ? this.save(this.told()) : null;
      });
    },

    async save(steps, focused = null) {
      const held = document.activeElement;
      await post(this.$root.dataset.save, { steps: JSON.stringify(steps) });
      if (focused !== null) this.wanted = { at: focused, held }; // not before: what was asked for earlier shows the old order
      await this.draw();
    },

    // An address of rows, to be drawn as wide as there is room.
    atWidth(address) {
      return `${address}?width=${Math.round(Math.max(300, this.$refs.rows.clientWidth - MARGINS))}`;
    },

    // Done when what is drawn is as new as that or newer.
    draw(fetched = () => getHtml(this.atWidth(this.$root.dataset.rows))) {
      this.landing = this.drawNewest(++this.asked, fetched);
      return this.landing;
    },

    async drawNewest(number, fetched) {
      try {
        const html = await fetched();
        if (number !== this.asked) return this.landing;
        // Who is typing keeps the field; what is drawn beside it is swapped.
        const typing = this.dragged?.field ?? document.activeElement?.closest("[data-key]");
        const page = parsed(html), fresh = page.querySelector("#steps");
        keepingFocus(() => swapPart(document.getElementById("hear"), page.querySelector("#hear")));
        document.getElementById("called").textContent = page.querySelector("[data-called]").dataset.called;
        this.loadHearing();
        if (typing) return this.swapBeside(fresh, typing.closest("section"));
        this.swapSteps(fresh);
        this.focusWanted();
      } catch (error) {
        say(error.message);
      }
    },

    // Who has the focus on a step keeps it, wherever that stands now.
    swapSteps(fresh) {
      const held = document.activeElement, before = this.sections();
      keepingFocus(() => swapPart(document.getElementById("steps"), fresh));
      for (const [step, heir] of pairs(before, this.sections())) inherit(step, heir);
      if (isLost() && before.includes(held) && heirOf(held).isConnected) heirOf(held).focus({ preventScroll: true });
    },

    loadHearing() {
      this.hearing.load(this.$refs.rows.querySelector("[data-hear-root]"));
    },

    // All but the sentence that somebody types in.
    swapBeside(fresh, typed) {
      const steps = document.getElementById("steps");
      const [old, now] = [steps, fresh].map((each) => [...each.querySelectorAll("section")]);
      const at = old.indexOf(typed);
      if (old.length !== now.length) return;
      if (typed.matches(".step") && kindOf(typed) !== kindOf(now[at])) return this.swapSteps(fresh); // it stands elsewhere now
      Object.assign(steps.dataset, fresh.dataset);
      old.forEach((section, at) => {
        if (section !== typed) {
          inherit(section, now[at]);
          return section.replaceWith(now[at]);
        }
        for (const part of ["svg", ".figures"]) section.querySelector(part).replaceWith(now[at].querySelector(part));
      });
    },

    add(button) {
      if (!button) return;
      const held = document.activeElement;
      this.inTurn(async () => {
        await post(this.$root.dataset.add, { do: button.dataset.addStep });
        this.wanted = { at: -1, held };
        await this.draw();
      });
    },

    // A recipe's steps instead of those that are here.
    give(event) {
      const button = event.target.closest("button[data-give]");
      if (!button) return;
      button.closest("details").open = false;
      this.inTurn(async () => {
        await post(this.$root.dataset.give, { recipe: button.dataset.give, source: this.$root.dataset.source });
        await this.draw();
      });
    },

    // The steps as a recipe with a name; under the name of an own one they are its next version.
    async keep() {
      if (!this.sections().length) return say("There is no step to keep.");
      const name = await askText("Keep these steps as a recipe called", this.$root.dataset.name);
      if (!name) return;
      try {
        const { version } = await post(this.$root.dataset.keep, { name });
        this.$root.dataset.name = name;
        await this.draw();
        say(version > 1 ? `Kept as version ${version} of ${name}.` : `Kept as ${name}.`);
      } catch (error) {
        say(error.message);
      }
    },

    // The same steps for other sources of the job, which are shown with this one from then on.
    async share(event) {
      event.preventDefault();
      const also = new FormData(event.target).getAll("with");
      try {
        await post(this.$root.dataset.share, also.map((id) => ["with", id]));
        const words = also.length ? `The same steps for ${also.length + 1} sources.` : "For this source alone.";
        const here = new URL(location.href);
        here.search = new URLSearchParams(also.map((id) => ["with", id]));
        history.replaceState(null, "", here);
        loadAnew(words);
      } catch (error) {
        say(error.message);
      }
    },

    move(at, by) {
      const steps = this.told();
      if (!steps[at + by]) return null;
      [steps[at], steps[at + by]] = [steps[at + by], steps[at]];
      return this.save(steps);
    },

    switchOff(at) {
      const steps = this.told();
      if (steps[at].off) delete steps[at].off;
      else steps[at].off = true;
      return this.save(steps);
    },

    takeOut(at) {
      return this.save(this.told().filter((_, place) => place !== at), Math.max(0, at - 1));
    },
  };
}

// Whether drawing anew has taken away what had the focus.
const isLost = () => document.activeElement === document.body || document.activeElement?.id === "steps";

Alpine.data("page", page);
Alpine.data("prepare", prepare);
Alpine.start();
