// The Arrivals screen: drawn by the server, kept true by what changes; here are keys, the clock and the alarm.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { watchChanges } from "../changes.js";
import { leaveFor } from "../going.js";
import { Hearing, hearingKeys } from "../hear/hearing.js";
import { onKeys, page, say } from "../page.js";
import { swapParts } from "../parts.js";
import { getHtml, post } from "../requests.js";
import { undoKeys } from "../undo.js";

const GATHER_MS = 250, TICK_MS = 1000, REDRAW_MS = 30_000;
const ALARMING = ["held", "missing"];
const TONE_HZ = 880, TONE_S = 0.18;

function arrivals() {
  return {
    alarm: localStorage.getItem("alarm") === "yes",
    redrawing: null, // a timer
    asked: 0,
    chosen: null,
    isSwapping: false,

    init() {
      undoKeys(this.$root.dataset.undo);
      this.hearing = new Hearing();
      this.chosen = this.low().dataset.chosen;
      this.known = new Set(this.alarming());
      watchChanges((changes, everything) => (everything || changes.some((each) => each.line)) && this.gather());
      addEventListener("resize", () => this.gather());
      this.$root.addEventListener("focusin", ({ target }) => this.isSwapping || this.choose(target.closest("[data-arrival]")?.dataset.arrival));
      this.runClock();
      this.loadHearing();
      this.showLatest();
      this.mark();
      this.refresh();
      setInterval(() => this.gather(), REDRAW_MS); // the clock has moved on the drawing too
      this.watchKeys();
    },

    low() {
      return document.getElementById("arrivals-low");
    },

    get alarmState() {
      return String(this.alarm);
    },

    get alarmLabel() {
      return this.alarm ? "Alarm is here too" : "Alarm also here";
    },

    switchAlarm() {
      this.alarm = !this.alarm;
      localStorage.setItem("alarm", this.alarm ? "yes" : "no");
      if (this.alarm) this.ring();
      say(this.alarm ? "What is held or missing is said here, with a tone." : "It is quiet here.");
    },

    gather() {
      this.redrawing ??= setTimeout(() => this.refresh(), GATHER_MS);
    },

    async refresh() {
      clearTimeout(this.redrawing);
      this.redrawing = null;
      const asked = ++this.asked;
      const fields = new URLSearchParams({ day: this.$root.dataset.day, width: Math.floor(document.querySelector(".air").clientWidth) });
      if (this.chosen) fields.set("arrival", this.chosen);
      try {
        const html = await getHtml(`${this.$root.dataset.parts}?${fields}`);
        if (asked !== this.asked) return;
        const hadFocus = Boolean(document.activeElement?.dataset?.arrival);
        const { scrollTop } = document.getElementById("arrivals-day");
        this.isSwapping = true; // the focus that is given back then chooses nothing
        swapParts(html);
        this.isSwapping = false;
        document.getElementById("arrivals-day").scrollTop = scrollTop;
        this.loadHearing();
        this.showLatest();
        this.mark();
        if (hadFocus) this.bubble(this.chosen)?.focus({ preventScroll: true });
        this.tellAlarms();
      } catch (error) {
        say(error.message);
      }
    },

    // What happened last is what is looked for.
    showLatest() {
      const course = this.low().querySelector(".course");
      if (course) course.scrollTop = course.scrollHeight;
    },

    loadHearing() {
      this.hearing.load(document.querySelector("#arrivals-hear [data-hear-root]"), "arrival-out");
    },

    bubbles() {
      return [...this.$root.querySelectorAll("[data-arrival]")];
    },

    bubble(id) {
      return this.$root.querySelector(`[data-arrival="${id}"]`);
    },

    mark() {
      const all = this.bubbles();
      const at = all.some((each) => each.dataset.arrival === this.chosen) ? this.chosen : all[0]?.dataset.arrival;
      for (const each of all) {
        each.classList.toggle("chosen", each.dataset.arrival === this.chosen);
        each.setAttribute("aria-checked", String(each.dataset.arrival === this.chosen));
        each.setAttribute("tabindex", each.dataset.arrival === at ? "0" : "-1");
      }
    },

    choose(id) {
      if (!id || id === this.chosen) return;
      this.chosen = id;
      this.mark();
      this.bubble(id)?.scrollIntoView({ block: "nearest", inline: "nearest" });
      history.replaceState(null, "", `${this.$root.dataset.here}?${new URLSearchParams({ day: this.$root.dataset.day, arrival: id })}`);
      this.refresh();
    },

    walk(by) {
      const here = this.bubble(this.chosen), line = here?.closest("[data-line]");
      const all = line ? [...line.querySelectorAll("[data-arrival]")] : this.bubbles();
      this.choose(all[Math.min(all.length - 1, Math.max(0, all.indexOf(here) + by))]?.dataset.arrival);
    },

    // To the arrival of the next line that has any, nearest in time.
    walkLines(by) {
      const here = this.bubble(this.chosen), lines = [...this.$root.querySelectorAll("[data-line]")].filter((each) => each.matches("g"));
      const x = Number(here?.dataset.x ?? 0);
      for (let at = lines.indexOf(here?.closest("[data-line]")) + by; lines[at]; at += by) {
        const all = [...lines[at].querySelectorAll("[data-arrival]")];
        if (all.length) return this.choose(all.reduce((best, each) => (Math.abs(each.dataset.x - x) < Math.abs(best.dataset.x - x) ? each : best)).dataset.arrival);
      }
    },

    press({ target }) {
      const bubble = target.closest("[data-arrival]");
      if (bubble) return this.choose(bubble.dataset.arrival);
      const button = target.closest("[data-post]");
      if (button) this.ask(button);
    },

    async ask(button) {
      const { post: address, under } = button.dataset;
      try {
        await post(address, under ? { under } : {});
        say({ publish: "It is being published.", again: "It is done again.", back: "The one before is on air again." }[button.dataset.do]);
        this.gather();
      } catch (error) {
        say(error.message);
      }
    },

    // Who chooses and presses at once means what was chosen, also where it is not drawn yet.
    async whenShown() {
      if (this.chosen && this.low().dataset.chosen !== this.chosen) await this.refresh();
      return !this.chosen || this.low().dataset.chosen === this.chosen;
    },

    watchKeys() {
      const shown = (action) => async (event) => (await this.whenShown()) && action(event);
      const pressed = (selector, otherwise) => async () => {
        if (!(await this.whenShown())) return;
        const found = this.$root.querySelector(selector);
        if (!found) return say(otherwise);
        if (found.href) leaveFor(found.href);
        else found.click();
      };
      const byDay = (selector) => pressed(selector, "There is no later day.");
      const heard = Object.entries(hearingKeys(this.hearing)).map(([key, action]) => [key, shown(action)]);
      onKeys({
        ...Object.fromEntries(heard),
        ArrowLeft: ({ shiftKey }) => (shiftKey ? byDay("[data-before]")() : this.walk(-1)),
        ArrowRight: ({ shiftKey }) => (shiftKey ? byDay("[data-after]")() : this.walk(1)),
        ArrowUp: () => this.walkLines(-1),
        ArrowDown: () => this.walkLines(1),
        p: pressed("[data-do=publish]", "This one is not held back."),
        r: pressed("[data-do=again]", "It cannot be done again now."),
        u: pressed("[data-do=back]", "There is no earlier one to put back."),
        d: pressed("[data-daily]", "Choose an arrival first."),
        Enter: pressed("[data-edit]", "Choose an arrival first."),
        n: pressed("[data-new]", ""),
        a: () => this.switchAlarm(),
      });
    },

    runClock() {
      const place = this.$refs.clock, speed = Number(this.$root.dataset.speed);
      const from = Number(place.dataset.clockS), begun = performance.now();
      setInterval(() => {
        const now = new Date((from + ((performance.now() - begun) / 1000) * speed) * 1000);
        place.textContent = now.toLocaleTimeString("en-GB");
      }, TICK_MS);
    },

    alarming() {
      return ALARMING.flatMap((state) => [...document.querySelectorAll(`.bubble.${state}[data-arrival]`)]).map((each) => each.dataset.arrival);
    },

    tellAlarms() {
      const fresh = this.alarming().filter((id) => !this.known.has(id));
      for (const id of fresh) this.known.add(id);
      if (!fresh.length || !this.$root.dataset.today || !this.alarm) return;
      this.ring();
      say(this.bubble(fresh.at(-1)).getAttribute("aria-label"));
    },

    ring() {
      try {
        const context = new AudioContext(), tone = context.createOscillator(), level = context.createGain();
        level.gain.value = 0.1;
        tone.frequency.value = TONE_HZ;
        tone.connect(level).connect(context.destination);
        tone.start();
        tone.stop(context.currentTime + TONE_S);
        tone.onended = () => context.close();
      } catch {
        // A browser without sound says it in words alone.
      }
    },
  };
}

Alpine.data("page", page);
Alpine.data("arrivals", arrivals);
Alpine.start();
