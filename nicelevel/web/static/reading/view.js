// The part of a file that is looked at, in seconds.

const LEAST_FRAMES = 48;

export class View {
  constructor(durationS, rateHz) {
    this.durationS = durationS;
    this.leastS = Math.min(durationS, LEAST_FRAMES / rateHz);
    this.whole();
  }

  get spanS() {
    return this.lastS - this.firstS;
  }

  whole() {
    this.firstS = 0;
    this.lastS = this.durationS;
  }

  show(firstS, lastS) {
    const spanS = Math.min(this.durationS, Math.max(this.leastS, lastS - firstS));
    this.firstS = Math.min(Math.max(0, firstS), this.durationS - spanS);
    this.lastS = this.firstS + spanS;
  }

  // Zooms by a factor, keeping one moment where it is.
  zoom(factor, atS) {
    const spanS = Math.min(this.durationS, Math.max(this.leastS, this.spanS * factor));
    const firstS = atS - ((atS - this.firstS) / this.spanS) * spanS;
    this.show(firstS, firstS + spanS);
  }

  move(share) {
    const byS = share * this.spanS;
    this.show(this.firstS + byS, this.lastS + byS);
  }

  holds(atS) {
    return atS >= this.firstS && atS <= this.lastS;
  }
}
