// The joins of a list: the end of each programme into the beginning of the next, one after the other.

import { Pieces, Take, Voice } from "./player.js";
import { ratio } from "./hearing.js";

const START_S = 0.1, PAUSE_S = 0.6;

export class Joins {
  // list: what the server answers; onJoin: told the titles of each join when it begins, and at the end nothing.
  constructor({ rate_hz: rateHz, joins }, onJoin, say, context = new AudioContext({ sampleRate: rateHz })) {
    Object.assign(this, { rateHz, joins, onJoin, say, context, timers: [], stopped: false });
    this.pieces = new Pieces(context);
  }

  async play() {
    try {
      await this.context.resume?.();
      let atS = this.context.currentTime + START_S;
      for (const join of this.joins) {
        const parts = join.parts.map((part) => this.partOf(part));
        await Promise.all(parts.flatMap(({ take, numbers }) => numbers.map((number) => this.pieces.want(take, number))));
        if (this.stopped) return;
        atS = Math.max(atS, this.context.currentTime + START_S);
        this.later(atS, () => this.onJoin(join.words));
        for (const part of parts) atS = this.place(part, atS);
        atS += PAUSE_S;
        await new Promise((resolve) => this.later(atS - 2, resolve)); // the next is fetched while this one is heard
      }
      this.later(atS, () => this.stop());
    } catch (error) {
      if (!this.stopped) this.say(error.message);
      this.stop();
    }
  }

  partOf({ key, address, stamp, gain_db: gainDb, from_s: fromS, to_s: toS }) {
    const take = new Take({ key, address, query: `?s=${stamp}`, frames: Infinity, gains: { matched: ratio(gainDb) } });
    const first = Math.round(fromS * this.rateHz), last = Math.round(toS * this.rateHz), numbers = [];
    for (let number = Math.floor(first / this.rateHz); number * this.rateHz < last; number++) numbers.push(number);
    return { take, first, last, numbers };
  }

  // One part at a time of the clock; when it ends.
  place({ take, first, last, numbers }, atS) {
    const startS = Math.ceil(atS * this.rateHz) / this.rateHz, endS = startS + (last - first) / this.rateHz;
    const voice = (this.voice = new Voice(this.context));
    for (const number of numbers) {
      const from = Math.max(first, number * this.rateHz);
      voice.place(this.pieces.get(take, number), startS + (from - first) / this.rateHz, from - number * this.rateHz);
    }
    voice.open(startS, take.gain("matched"));
    voice.close(endS - 0.005);
    return endS;
  }

  later(atS, act) {
    this.timers.push(setTimeout(act, Math.max(0, (atS - this.context.currentTime) * 1000)));
  }

  stop() {
    if (this.stopped) return;
    this.stopped = true;
    this.timers.forEach(clearTimeout);
    this.pieces.leave();
    this.context.close?.();
    this.onJoin(null);
  }
}
