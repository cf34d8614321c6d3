// What the time view draws from, fetched in parts as they are looked at and kept.

const MOST_KEPT = 400;

export class Parts {
  constructor(addresses, onArrival) {
    this.addresses = addresses;
    this.onArrival = onArrival;
    this.kept = new Map();
  }

  // Bins of a level as int16: (low, high, level) of each channel; null until they are here.
  bins(level, chunk) {
    return this.part(`${this.addresses.waveform}/${level}/${chunk}`, Int16Array);
  }

  // Samples of each channel as float32; null until they are here.
  samples(chunk) {
    return this.part(`${this.addresses.samples}/${chunk}`, Float32Array);
  }

  part(address, kind) {
    const found = this.kept.get(address);
    if (found === undefined) this.fetch(address, kind);
    return found || null;
  }

  async fetch(address, kind) {
    this.kept.set(address, null);
    try {
      const answer = await fetch(address);
      if (!answer.ok) return;
      this.kept.set(address, new kind(await answer.arrayBuffer()));
      if (this.kept.size > MOST_KEPT) this.kept.delete(this.kept.keys().next().value);
      this.onArrival();
    } catch {
      this.kept.delete(address);
    }
  }
}
