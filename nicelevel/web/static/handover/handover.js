// The Handover screen: drawn by the server, kept true by its events.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { oneAtATime, watchChanges } from "../changes.js";
import { onKeys, page, say } from "../page.js";
import { parsed, swapParts } from "../parts.js";
import { Hearing, hearingKeys } from "../hear/hearing.js";
import { whatIsQueued } from "../queued.js";
import { getHtml, getJson, post } from "../requests.js";

const GATHER_MS = 200;

function handover() {
  return {
    init() {
      const { job } = this.$root.dataset;
      const gather = oneAtATime(() => this.draw(), GATHER_MS);
      watchChanges((changes, everything) => {
        if (everything || changes.some((each) => String(each.job) === job)) gather();
      });
      this.$root.addEventListener("submit", (event) => event.target.closest("#in-one") && this.putInOne(event));
      this.$root.addEventListener("input", (event) => {
        const { target } = event;
        if (target.matches("#in-one [data-narrow]")) this.narrow(target.form, target.value);
        else if (target.closest("#in-one")) this.drawRibbon(target.form);
      });
      this.$root.addEventListener("click", ({ target }) => {
        const { copy, withdraw } = target.closest("button")?.dataset ?? {};
        if (copy) this.copy(copy);
        if (withdraw) this.withdraw(target.closest("button"));
      });
      this.hearing = new Hearing();
      this.$root.addEventListener("click", (event) => this.choose(event.target.closest("tr[data-hear-at]")));
      this.watchKeys();
      this.choose(this.rows()[0]);
    },

    async draw() {
      try {
        const fresh = parsed(await getHtml(this.$root.dataset.parts));
        // Who is choosing what goes into one file keeps the choice.
        if (document.querySelector("#in-one details[open]")) fresh.querySelector("#in-one").remove();
        swapParts(fresh);
        this.mark();
      } catch (error) {
        say(error.message);
      }
    },

    rows() {
      return [...this.$root.querySelectorAll("tr[data-hear-at]")];
    },

    walk(by) {
      const rows = this.rows(), at = rows.findIndex((row) => row.dataset.file === this.chosen);
      this.choose(rows[Math.min(Math.max(at + by, 0), rows.length - 1)]);
    },

    // Of a chosen file its transport is shown: it is heard itself first, and whatever else its source can be heard as.
    async choose(row) {
      if (!row || row.dataset.file === this.chosen) return;
      this.chosen = row.dataset.file;
      this.mark();
      row.scrollIntoView({ block: "nearest" });
      this.hearing.expect(this.chosen);
      try {
        const html = await getHtml(row.dataset.hearAt);
        if (row.dataset.file !== this.chosen) return;
        this.$refs.transport.innerHTML = html;
        this.hearing.load(this.$refs.transport.querySelector("[data-hear-root]"), row.dataset.take);
      } catch (error) {
        this.hearing.forget();
        say(error.message);
      }
    },

    mark() {
      for (const row of this.rows()) row.classList.toggle("sel", row.dataset.file === this.chosen);
    },

    watchKeys() {
      const goTo = (selector, otherwise) => {
        const link = this.$root.querySelector(selector);
        if (link) location.assign(link.href);
        else say(otherwise);
      };
      const nothing = "Nothing is proved yet, so there is no package.";
      onKeys({
        ...hearingKeys(this.hearing),
        Escape: () => goTo("[data-board]"),
        ArrowUp: () => this.walk(-1),
        ArrowDown: () => this.walk(1),
        p: () => goTo("[data-package]", nothing),
        o: () => goTo("[data-proof]", nothing),
        m: () => goTo("[data-manifest]", nothing),
        c: () => goTo("[data-checksums]", nothing),
        s: (event) => this.send(event),
        r: () => this.render(),
        x: () => this.stop(),
      });
    },

    async send(event) {
      event.preventDefault();
      try {
        await post(this.$root.dataset.send, { address: this.$refs.address.value });
        say("On its way.");
      } catch (error) {
        say(error.message);
      }
    },

    // Looked at before it is written: what does not fit together is said here, and the choice stays.
    async putInOne(event) {
      event.preventDefault();
      const form = event.target, chosen = new URLSearchParams(new FormData(form));
      try {
        const { problem } = await getJson(`${form.action}?${chosen}&check=`);
        if (problem) return say(problem);
        if (event.submitter?.hasAttribute("data-contribute")) {
          await post(form.dataset.contributeAt, chosen);
          return say("It is being written and sent.");
        }
        location.assign(`${form.action}?${chosen}`);
      } catch (error) {
        say(error.message);
      }
    },

    // What is chosen stays in view whatever is looked for.
    narrow(form, wanted) {
      for (const part of form.querySelectorAll(".part")) {
        const said = [part.textContent, ...[...part.querySelectorAll("input, [title]")].map((each) => each.title || each.value)].join(" ");
        part.hidden = !part.querySelector("input[name=file]").checked && !said.toLowerCase().includes(wanted.trim().toLowerCase());
      }
    },

    async drawRibbon(form) {
      const place = form.querySelector("[data-ribbon]"), chosen = new URLSearchParams(new FormData(form));
      const width = Math.floor(place.clientWidth);
      try {
        const drawn = await getHtml(`${place.dataset.ribbon}?${chosen}&width=${width}`);
        place.innerHTML = chosen.has("file") ? drawn : "";
      } catch (error) {
        say(error.message);
      }
    },

    async makeLink(event) {
      event.preventDefault();
      const form = event.target;
      try {
        const { address } = await post(form.dataset.at, new FormData(form));
        form.reset();
        await this.copy(address);
      } catch (error) {
        say(error.message);
      }
    },

    async copy(address) {
      try {
        await navigator.clipboard.writeText(address);
        say("The link is on the clipboard.");
      } catch {
        prompt("The link:", address); // a browser lets pages at plain http copy nothing by themselves
      }
    },

    async withdraw(button) {
      try {
        await post(button.dataset.withdraw);
        say("Withdrawn: it shows nothing any more.");
      } catch (error) {
        say(error.message);
      }
    },

    async stop() {
      const button = this.$root.querySelector("[data-stop]");
      if (!button) return say("Nothing is being sent.");
      try {
        await post(button.dataset.stop);
      } catch (error) {
        say(error.message);
      }
    },

    async render() {
      try {
        say(whatIsQueued(await post(this.$root.dataset.render), "Nothing is left to render."));
      } catch (error) {
        say(error.message);
      }
    },
  };
}

Alpine.data("page", page);
Alpine.data("handover", handover);
Alpine.start();
