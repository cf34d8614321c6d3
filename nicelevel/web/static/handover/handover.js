// The Handover screen: drawn by the server, kept true by its events.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { isTyping, page, say } from "../page.js";
import { swapParts } from "../parts.js";
import { getHtml, post } from "../requests.js";

const GATHER_MS = 200;

function handover() {
  return {
    init() {
      const { parts, events } = this.$root.dataset;
      let timer = null;
      const refresh = async () => {
        timer = null;
        try {
          swapParts(await getHtml(parts));
        } catch (error) {
          say(error.message);
        }
      };
      const gather = () => (timer ??= setTimeout(refresh, GATHER_MS));
      const stream = new EventSource(events);
      for (const name of ["open", "change", "handover"]) stream.addEventListener(name, gather);
      addEventListener("keydown", (event) => this.onKey(event));
    },

    onKey(event) {
      const goTo = (selector, otherwise) => {
        const link = this.$root.querySelector(selector);
        if (link) location.assign(link.href);
        else say(otherwise);
      };
      const nothing = "Nothing is proved yet, so there is no package.";
      const actions = {
        b: () => goTo("[data-board]"),
        p: () => goTo("[data-package]", nothing),
        o: () => goTo("[data-proof]", nothing),
        m: () => goTo("[data-manifest]", nothing),
        c: () => goTo("[data-checksums]", nothing),
        s: () => this.send(event),
        r: () => this.render(),
        x: () => this.stop(),
      };
      const action = actions[event.key];
      if (!action || isTyping(event)) return;
      event.preventDefault();
      action();
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
        const { queued } = await post(this.$root.dataset.render);
        say(queued ? `${queued} on the queue.` : "Nothing is left to render.");
      } catch (error) {
        say(error.message);
      }
    },
  };
}

Alpine.data("page", page);
Alpine.data("handover", handover);
Alpine.start();
