// What a page has to hear: a player for the takes that stand in its transport, and the keys for it.

import { say } from "../page.js";
import { Player, Take } from "./player.js";
import { clock } from "../chart.js";

const CLOSE_S = 0.05, LEAD_S = 1, TICK_MS = 40;

export class Hearing {
  // onTime: told where it is, in seconds, while it plays and when it is moved.
  constructor(onTime = () => {}) {
    this.onTime = onTime;
    this.root = null;
    this.player = null;
    this.stops = [];
    this.forget();
    addEventListener("pagehide", () => this.leave());
  }

  // The transport of something else is on its way: keys are meant for that one, but while the one before still plays.
  expect(what) {
    if (this.expected !== what) Object.assign(this, { expected: what, asked: [] });
  }

  // It does not come.
  forget() {
    this.expected = this.asked = null;
  }

  // What a key asks for, once there is what it is meant for.
  soon(act) {
    if (this.asked && !this.isPlaying) this.asked.push(act);
    else act();
  }

  // Takes over a transport that the page shows now, and does what was asked for meanwhile. first: what is heard at first.
  load(root, first = null) {
    const { asked } = this;
    this.forget();
    this.takeOver(root, first);
    for (const act of asked ?? []) act();
  }

  // The same source goes on where it was.
  takeOver(root, first = null) {
    const before = this.player && { source: this.root?.dataset.source, atS: this.player.atS, playing: this.isPlaying, levels: this.player.levels };
    const same = root && before?.source === root.dataset.source;
    const kind = this.takeButton()?.dataset.kind;
    root?.addEventListener("click", (event) => this.onClick(event));
    if (same && this.signature(root) === this.loaded) {
      this.root = root;
      this.first = first ?? this.first;
      return this.show();
    }
    this.leave();
    this.last = null; // it was a take of what was shown before
    this.root = root;
    this.loaded = root && this.signature(root);
    this.stops = root ? JSON.parse(root.dataset.stops) : [];
    if (!root) return;
    this.atS = same ? before.atS : 0;
    this.kind = same ? kind : null;
    this.levels = same ? before.levels : "matched";
    this.first = first;
    this.show();
    if (same && before.playing) this.play();
  }

  signature(root) {
    return [...root.querySelectorAll("[data-take]")].map((button) => button.dataset.take + button.dataset.stamp + button.dataset.gain).join() + root.dataset.rate;
  }

  leave() {
    this.player?.leave();
    this.player = null;
    clearInterval(this.ticking);
  }

  get isPlaying() {
    return this.player?.state === "playing" || this.player?.state === "coming";
  }

  // Made when it is first asked for: a browser gives no sound before a key or a press.
  ready() {
    if (this.player || !this.root) return this.player;
    const { rate, most } = this.root.dataset;
    const takes = [...this.root.querySelectorAll("[data-take]")].map((button) => this.takeOf(button, Number(rate), Number(most)));
    this.player = new Player({ rateHz: Number(rate), takes, say, onChange: () => this.show() });
    this.player.levels = this.levels;
    this.player.restFrame = Math.round(this.atS * Number(rate));
    const first = this.takeButton(this.first) ?? (this.kind && this.root.querySelector(`[data-take][data-kind="${this.kind}"]`));
    if (first) this.player.key = first.dataset.take;
    this.player.ready = this.pair();
    return this.player;
  }

  takeOf({ dataset }, rateHz, most) {
    const gains = { matched: ratio(dataset.gain), real: ratio(dataset.real) };
    return new Take({
      key: dataset.take,
      address: dataset.address,
      query: `?s=${encodeURIComponent(dataset.stamp)}`,
      frames: Math.ceil(Number(dataset.seconds) * rateHz),
      gains,
      most,
    });
  }

  // The two that the switch goes between: the source and what is compared with it first.
  pair() {
    return (this.root?.dataset.pair || "").split(" ").filter(Boolean);
  }

  takeButton(key = this.player?.key) {
    return key ? this.root?.querySelector(`[data-take="${key}"]`) : null;
  }

  play() {
    const player = this.ready();
    if (!player) return null;
    const atEnd = player.atS >= player.take.frames / player.rateHz - CLOSE_S;
    return player.play(atEnd ? 0 : player.atS);
  }

  toggle() {
    if (this.isPlaying) this.player.stop();
    else this.play();
  }

  seek(atS) {
    this.atS = atS;
    this.ready()?.seek(atS);
    this.onTime(atS);
  }

  async choose(key) {
    await this.ready()?.switchTo(key);
  }

  // From the source to what it is compared with, and back.
  swap() {
    const [one, other] = this.pair();
    if (!other) return say("There is nothing to compare this with yet.");
    const player = this.ready();
    return this.choose(player.key === one ? (this.last ?? other) : one);
  }

  number(at) {
    const button = this.root?.querySelectorAll("[data-take]")[at - 1];
    if (button) this.choose(button.dataset.take);
  }

  setLevels(levels) {
    this.levels = levels;
    this.ready()?.setLevels(levels);
  }

  swapLevels() {
    this.setLevels(this.levels === "matched" ? "real" : "matched");
    say(this.levels === "real" ? "Real differences of level, none louder than the source." : "All at the same loudness.");
  }

  // What is left over of what is heard (or of the compared one) when the source is taken away.
  leftOver() {
    if (!this.root?.querySelector("[data-hear=less]")) return say("What is left over is not heard here.");
    const player = this.ready(), [one, other] = this.pair();
    if (!other) return say("There is nothing to take the source from yet.");
    if (player.key.startsWith("less ")) return this.choose(this.last ?? other);
    const heard = this.takeButton() && player.key !== one ? player.key : (this.last ?? other);
    return this.choose(this.added(`less ${heard}`, () => this.differenceOf(heard, one)));
  }

  // What lies between two of them at their real levels: what a step took away, or put in.
  between(key, from) {
    const name = `less ${key} ${from}`;
    return this.choose(this.player.key === name ? key : this.added(name, () => this.differenceOf(key, from, "real", name)));
  }

  added(key, make) {
    if (!this.player.takes.has(key)) this.player.add(make());
    return key;
  }

  differenceOf(key, from, levels = "gain", name = `less ${key}`) {
    const { rateHz } = this.player, [one, other] = [this.takeButton(key), this.takeButton(from)].map((button) => button.dataset);
    return new Take({
      key: name,
      address: `/hear/${key}/less/${from}/${rateHz}`,
      query: `?s=${one.stamp}-${other.stamp}&gain=${one[levels]}&less=${other[levels]}`,
      frames: Math.ceil(Math.min(Number(one.seconds), Number(other.seconds)) * rateHz),
      gains: { matched: 1 },
      boost: ratio(this.boostDb ?? 0),
      most: Number(this.root.dataset.most),
    });
  }

  // The next place worth hearing after where it is, round at the end; `back` goes to the one before.
  walk(back = false) {
    const atS = this.player?.atS ?? this.atS ?? 0;
    const begins = (at) => Math.max(0, at - LEAD_S); // a place is entered a little before
    const ahead = back ? this.stops.filter(([at]) => begins(at) < atS - LEAD_S).reverse() : this.stops.filter(([at]) => begins(at) > atS + 0.02);
    const [at, word] = ahead[0] ?? (back ? this.stops.at(-1) : this.stops[0]) ?? [];
    if (at === undefined) return say("Nothing stands out here: no limiting, no note.");
    this.seek(begins(at));
    say(`${clock(at)}: ${word}.`);
  }

  onClick(event) {
    const button = event.target.closest("button");
    if (!button) return;
    const { take, hear } = button.dataset;
    if (take) this.choose(take);
    const actions = { play: () => this.toggle(), levels: () => this.swapLevels(), less: () => this.leftOver(), next: () => this.walk() };
    actions[hear]?.();
  }

  show() {
    const { root, player } = this;
    if (!root) return;
    if (player?.key && !player.key.startsWith("less ") && player.key !== this.pair()[0] && this.takeButton()) this.last = player.key;
    const key = player?.key ?? (this.takeButton(this.first) ?? root.querySelector("[data-take]"))?.dataset.take;
    const less = key?.startsWith("less ");
    root.dataset.state = player?.state ?? "still";
    root.dataset.levels = this.levels;
    root.dataset.less = less ? "on" : "";
    for (const button of root.querySelectorAll("[data-take]")) button.setAttribute("aria-pressed", button.dataset.take === (less ? key.split(" ")[1] : key));
    for (const gain of root.querySelectorAll("[data-gains]")) gain.textContent = gain.dataset[this.levels];
    root.querySelector("[data-hear=levels]")?.setAttribute("aria-pressed", this.levels === "real");
    root.querySelector("[data-hear=less]")?.setAttribute("aria-pressed", Boolean(less));
    root.querySelector("[data-heard-as]")?.replaceChildren(this.levels === "real" ? "real levels" : "same loudness");
    this.tick();
    clearInterval(this.ticking);
    if (this.isPlaying) this.ticking = setInterval(() => this.tick(), TICK_MS);
  }

  tick() {
    const atS = this.player?.atS ?? this.atS ?? 0;
    this.atS = atS;
    const sign = this.root.querySelector("[data-sign]"), time = this.root.querySelector("[data-clock]");
    if (sign) sign.textContent = this.isPlaying ? "■" : "▶";
    if (time) time.textContent = clock(atS, 1);
    this.onTime(atS);
  }
}

export const ratio = (db) => 10 ** (Number(db) / 20);

// The keys that mean the same on every page with a transport.
export function hearingKeys(hearing) {
  const keys = {
    " ": () => hearing.toggle(),
    b: () => hearing.swap(),
    g: () => hearing.swapLevels(),
    e: () => hearing.leftOver(),
    ".": () => hearing.walk(),
    ",": () => hearing.walk(true),
  };
  for (const at of [1, 2, 3, 4, 5, 6, 7, 8, 9]) keys[at] = () => hearing.number(at);
  return Object.fromEntries(Object.entries(keys).map(([key, act]) => [key, () => hearing.soon(act)]));
}
