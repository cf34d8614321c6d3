// Plays what the server computes, second after second, on one clock: takes are switched aligned to the sample.
// Nothing is played that is not here: a slow disk gives silence, never noise.

const AHEAD_S = 4, START_S = 0.03, SWITCH_S = 0.02, FADE_S = 0.005, PUMP_MS = 60, KEPT = 48, TRIES = 3;

// Seconds of the takes as the browser plays them, fetched as they are asked for; so many are kept.
export class Pieces {
  constructor(context, fetcher = (...asked) => fetch(...asked)) {
    this.context = context;
    this.fetcher = fetcher;
    this.kept = new Map();
    this.leaving = new AbortController();
  }

  // The second, where it is here already.
  get(take, number) {
    return this.kept.get(take.addressOf(number))?.buffer ?? null;
  }

  want(take, number) {
    const address = take.addressOf(number);
    const found = this.kept.get(address);
    if (found) {
      this.kept.delete(address); // the latest asked for is the last to go
      this.kept.set(address, found);
      return found.coming;
    }
    const entry = { buffer: null };
    entry.coming = this.load(address, take).then(
      (buffer) => (entry.buffer = buffer),
      (error) => {
        this.kept.delete(address);
        throw error;
      },
    );
    entry.coming.catch(() => {}); // whoever waits for it is told
    this.kept.set(address, entry);
    while (this.kept.size > KEPT) this.kept.delete(this.kept.keys().next().value);
    return entry.coming;
  }

  async load(address, take) {
    const answer = await this.fetcher(address, { signal: this.leaving.signal, headers: { Accept: "application/json" } });
    if (!answer.ok) throw new Error((await answer.json().catch(() => null))?.error?.message || `The server answered ${answer.status}.`);
    const samples = new Float32Array(await answer.arrayBuffer());
    const buffer = this.context.createBuffer(2, samples.length / 2, this.context.sampleRate);
    const left = buffer.getChannelData(0), right = buffer.getChannelData(1);
    let peak = 0;
    for (let frame = 0; frame < left.length; frame++) {
      left[frame] = samples[2 * frame];
      right[frame] = samples[2 * frame + 1];
      peak = Math.max(peak, Math.abs(left[frame]), Math.abs(right[frame]));
    }
    take.seen(peak);
    return buffer;
  }

  // What is on its way is not waited for any more.
  leave() {
    this.leaving.abort();
    this.kept.clear();
  }
}

// Something that can be heard. gains: ratios by the kind of level; boost: for what is too quiet to be heard at its own.
export class Take {
  constructor({ key, address, query = "", frames, gains, boost = 1, most = Infinity }) {
    Object.assign(this, { key, address, query, frames, gains, boost, most, peak: 0 });
  }

  addressOf(number) {
    return `${this.address}/${number}${this.query}`;
  }

  // A boost gives way before it would pass what the source itself reaches.
  seen(peak) {
    this.peak = Math.max(this.peak, peak);
  }

  gain(levels) {
    const gain = (this.gains[levels] ?? this.gains.matched) * this.boost;
    return this.peak * gain > this.most ? this.most / this.peak : gain;
  }
}

// One take on its way to the loudspeakers: a gain that opens and closes within 5 ms.
export class Voice {
  constructor(context) {
    this.context = context;
    this.sources = new Set();
    this.out = context.createGain();
    this.out.gain.value = 0;
    this.out.connect(context.destination);
  }

  place(buffer, atS, fromFrame) {
    const source = this.context.createBufferSource();
    source.buffer = buffer;
    source.connect(this.out);
    source.onended = () => {
      this.sources.delete(source);
      if (this.closed && !this.sources.size) this.out.disconnect();
    };
    source.start(atS, fromFrame / buffer.sampleRate);
    this.sources.add(source);
  }

  open(atS, gain) {
    this.out.gain.setValueAtTime(0, atS);
    this.out.gain.linearRampToValueAtTime(gain, atS + FADE_S);
    this.level = gain;
  }

  move(atS, gain) {
    this.out.gain.setValueAtTime(this.level, atS);
    this.out.gain.linearRampToValueAtTime(gain, atS + FADE_S);
    this.level = gain;
  }

  close(atS) {
    this.out.gain.cancelScheduledValues(atS);
    this.out.gain.setValueAtTime(this.level ?? 0, atS);
    this.out.gain.linearRampToValueAtTime(0, atS + FADE_S);
    this.closed = true;
    for (const source of this.sources) source.stop(atS + FADE_S);
  }
}

export class Player {
  // onChange: told when it begins, stops, waits or has changed what is heard; say: told why it cannot go on.
  constructor({ rateHz, takes, onChange = () => {}, say = () => {}, context, fetcher }) {
    this.rateHz = rateHz;
    this.context = context ?? new AudioContext({ sampleRate: rateHz, latencyHint: "interactive" });
    this.pieces = new Pieces(this.context, fetcher);
    this.takes = new Map(takes.map((take) => [take.key, take]));
    this.key = takes[0].key;
    this.levels = "matched";
    this.state = "still"; // still, coming, playing
    this.restFrame = 0;
    this.ready = []; // keys of takes that are kept ready to be switched to
    this.turn = 0; // grows with everything that makes what was asked before void
    this.onChange = onChange;
    this.say = say;
  }

  get take() {
    return this.takes.get(this.key);
  }

  get atS() {
    return this.frame / this.rateHz;
  }

  // Where it is; what stands still stands where it was left.
  get frame() {
    return this.state === "playing" ? this.frameAt(this.context.currentTime) : this.restFrame;
  }

  frameAt(timeS) {
    return Math.max(this.anchor.frame, this.anchor.frame + Math.round((timeS - this.anchor.atS) * this.rateHz));
  }

  timeOf(frame) {
    return this.anchor.atS + (frame - this.anchor.frame) / this.rateHz;
  }

  // The frame at a time, inside of what is heard.
  within(atS) {
    return Math.min(Math.max(0, Math.round(atS * this.rateHz)), this.take.frames - 1);
  }

  // The next time at which a sample begins.
  onGrid(timeS) {
    return Math.ceil(timeS * this.rateHz) / this.rateHz;
  }

  add(take) {
    this.takes.set(take.key, take);
  }

  async play(atS = this.atS) {
    this.hush();
    const turn = ++this.turn;
    this.restFrame = this.within(atS);
    this.askedAt = performance.now();
    this.become("coming");
    try {
      await Promise.all([this.context.resume?.(), this.tried(this.take, Math.floor(this.restFrame / this.rateHz))]);
    } catch (error) {
      if (turn !== this.turn) return;
      return this.fail(error);
    }
    if (turn !== this.turn) return;
    this.begin(this.onGrid(this.context.currentTime + START_S));
    this.firstSoundMs = performance.now() - this.askedAt + START_S * 1000;
    this.pumping ??= setInterval(() => this.pump(), PUMP_MS);
    this.become("playing");
    this.pump();
  }

  // From the frame that it rests at, at a time of the context's clock.
  begin(atS) {
    this.anchor = { frame: this.restFrame, atS };
    this.voice = this.enter(this.take, this.restFrame);
  }

  enter(take, frame) {
    const voice = new Voice(this.context);
    voice.take = take;
    voice.next = Math.floor(frame / this.rateHz);
    this.place(voice, frame);
    voice.open(this.timeOf(frame), take.gain(this.levels));
    return voice;
  }

  // The next second of a voice, where it is here.
  place(voice, fromFrame = voice.next * this.rateHz) {
    const buffer = this.pieces.get(voice.take, voice.next);
    if (!buffer) return false;
    const start = voice.next * this.rateHz;
    voice.place(buffer, this.timeOf(fromFrame), fromFrame - start);
    voice.next++;
    return true;
  }

  pump() {
    if (this.state !== "playing") return;
    const now = this.context.currentTime, voice = this.voice;
    if (this.frameAt(now) >= voice.take.frames) return this.stop(0);
    while (this.timeOf(voice.next * this.rateHz) < now + AHEAD_S && voice.next * this.rateHz < voice.take.frames) {
      if (this.place(voice)) continue;
      this.pieces.want(voice.take, voice.next).catch((error) => this.fail(error));
      break;
    }
    const gain = voice.take.gain(this.levels);
    if (gain < voice.level) voice.move(this.onGrid(now), gain);
    this.prefetch(voice, now);
    this.watchForGaps(voice, now);
  }

  // What may be switched to is fetched after what is heard.
  prefetch(voice, now) {
    if (this.timeOf(voice.next * this.rateHz) < now + 2) return;
    const number = Math.floor(this.frameAt(now) / this.rateHz);
    for (const key of this.ready) {
      const take = this.takes.get(key);
      if (!take || take === voice.take) continue;
      for (const each of [number, number + 1]) if (each * this.rateHz < take.frames) this.pieces.want(take, each).catch(() => {});
    }
  }

  // Where the next second is late, it closes softly and goes on when that has come.
  watchForGaps(voice, now) {
    const endS = this.timeOf(voice.next * this.rateHz);
    if (endS - now > 2 * (PUMP_MS / 1000) || voice.next * this.rateHz >= voice.take.frames) return;
    voice.close(Math.max(now, endS - FADE_S));
    this.restFrame = voice.next * this.rateHz;
    this.voice = null;
    this.state = "coming";
    this.play(this.restFrame / this.rateHz);
  }

  // A second, asked for again where the server did not answer.
  async tried(take, number) {
    for (let left = TRIES; ; left--) {
      try {
        return await this.pieces.want(take, number);
      } catch (error) {
        if (left <= 1 || !(error instanceof TypeError)) throw error;
        await new Promise((resolve) => setTimeout(resolve, 300));
      }
    }
  }

  fail(error) {
    if (error.name === "AbortError" || this.state === "still") return;
    this.stop();
    this.say(error instanceof TypeError ? "Nice Level does not answer. Is it still running?" : error.message);
  }

  // Another take from the very sample on at which the one that is heard is left.
  async switchTo(key) {
    if (!this.takes.has(key) || key === this.key) return;
    const take = this.takes.get(key), turn = ++this.turn;
    if (this.state !== "playing") {
      this.key = key;
      this.onChange();
      if (this.state === "coming") await this.play(this.restFrame / this.rateHz);
      return;
    }
    this.key = key;
    this.onChange();
    try {
      const number = Math.floor(this.frame / this.rateHz);
      await Promise.all([number, number + 1].filter((each) => each * this.rateHz < take.frames).map((each) => this.tried(take, each)));
    } catch (error) {
      return this.fail(error);
    }
    if (turn !== this.turn || this.state !== "playing") return;
    this.cross(take, this.onGrid(this.context.currentTime + SWITCH_S));
    this.pump();
  }

  // From one voice into another within 5 ms.
  cross(take, atS) {
    const old = this.voice;
    this.voice = this.enter(take, this.frameAt(atS));
    old?.close(atS);
  }

  setLevels(levels) {
    this.levels = levels;
    if (this.state === "playing") this.voice.move(this.onGrid(this.context.currentTime + SWITCH_S), this.take.gain(levels));
    this.onChange();
  }

  seek(atS) {
    if (this.state === "still") {
      this.restFrame = this.within(atS);
      return this.onChange();
    }
    return this.play(atS);
  }

  stop(atFrame = this.frame) {
    this.restFrame = atFrame;
    this.turn++;
    this.hush();
    this.become("still");
  }

  hush() {
    this.voice?.close(this.context.currentTime);
    this.voice = null;
  }

  become(state) {
    this.state = state;
    if (state === "still") {
      clearInterval(this.pumping);
      this.pumping = null;
    }
    this.onChange();
  }

  leave() {
    this.stop();
    this.pieces.leave();
    setTimeout(() => this.context.close?.(), 50);
  }
}
