// Before and after on one axis: waveforms overlaid, the limiter's work, loudness, and how long each level lasts.
// All of it comes computed from the server; here it is only brought to pixels.

import { Chart, clock, signed } from "../chart.js";

const LEFT = 64, RIGHT = 168, DEEPEST_DB = 12, BARS_WIDE = 118;

function layout(width, height, limits) {
  const strips = { width, height, x0: LEFT, x1: width - RIGHT };
  const take = (name, top, tall) => (strips[name] = { top, tall, bottom: top + tall });
  take("waves", 26, Math.round(height * 0.34));
  take("limiter", strips.waves.bottom + (limits ? 24 : 0), limits ? 44 : 0);
  take("all", height - 42, 28);
  take("axis", strips.all.top - 32, 24);
  take("loudness", strips.limiter.bottom + 30, strips.axis.top - strips.limiter.bottom - 42);
  return strips;
}

export class Drawing extends Chart {
  constructor(canvas, data) {
    super(canvas, data, (width, height) => layout(width, height, data.limits));
  }

  // columns, overview: {firstS, lastS, rows}; series: {shortTerm: [before, after]}; gains: of both waveforms, ratios.
  draw(view, { columns, overview, series }, { gains, cursorS }) {
    this.begin(view);
    this.lift = overview ? this.liftOf(overview.rows, gains) : 1;
    this.words();
    if (columns) this.waves(columns, this.strips.waves, gains);
    if (columns && this.data.limits) this.limiter(columns);
    if (series) this.loudness(series);
    this.distribution();
    this.axis();
    if (overview) this.whole((all) => this.waves(overview, all, gains));
    this.cursor(cursorS, this.strips.waves.top);
  }

  // Quiet waveforms are drawn taller, both by as much.
  liftOf(rows, gains) {
    let most = 0.02;
    rows.slice(0, 4).forEach((row, at) => row.forEach((value) => (most = Math.max(most, Math.abs(value || 0) * gains[at >> 1]))));
    return Math.max(1, 1 / most);
  }

  words() {
    const { waves, x0, x1 } = this.strips, [before, after] = this.data.names, context = this.context;
    context.font = '400 11px "NL Text", sans-serif';
    context.fillStyle = this.colours.wave;
    context.fillRect(x0, 10, 14, 9);
    this.text(x0 + 19, 19, before);
    const x = x0 + 19 + context.measureText(before).width + 18;
    this.line([[x, 11], [x + 14, 11]], "ink", 1.2);
    this.line([[x, 18], [x + 14, 18]], "ink", 1.2);
    this.text(x + 19, 19, after, { colour: "ink" });
    this.text(x1 + 12, waves.top + 8, this.lift > 1.05 ? `drawn ${this.lift.toFixed(1)}× taller` : "");
  }

  // The one before as a body, the one after as its outline: so each is seen whichever is larger.
  waves({ firstS, lastS, rows }, strip, gains) {
    const middle = strip.top + strip.tall / 2, half = strip.tall / 2, context = this.context;
    const count = rows[0].length, step = (lastS - firstS) / count;
    const x = (at) => this.x(firstS + at * step);
    const y = (value, gain) => middle - Math.max(-1, Math.min(1, value * gain * this.lift)) * half;
    const { x0, x1 } = this.strips;
    this.line([[x0, middle], [x1, middle]], "rule");
    for (const side of [-1, 1]) this.line([[x0, middle + side * half], [x1, middle + side * half]], "rule", 1, [1, 4]);
    if (this.data.limits && strip === this.strips.waves) {
      const ceiling = 10 ** (this.data.ceiling_db / 20) * gains[1] * this.lift;
      for (const side of [-1, 1]) this.line([[x0, middle + side * ceiling * half], [x1, middle + side * ceiling * half]], "work", 1, [4, 3]);
    }
    this.within(strip, () => {
      context.fillStyle = this.colours.wave;
      const wide = Math.max(1, x(1) - x(0)) + 0.3;
      for (let at = 0; at < count; at++) {
        const low = rows[0][at], high = rows[1][at];
        if (!Number.isFinite(high)) continue;
        const top = y(high, gains[0]);
        context.fillRect(x(at), top, wide, Math.max(1, y(low, gains[0]) - top));
      }
      for (const row of [rows[2], rows[3]]) this.outline(row, x, (value) => y(value, gains[1]), "ink", 1.1, 0.5);
    });
  }

  // A line through a row of values, broken where there is none. at: where in its column a value stands.
  outline(row, x, y, colour, width, at) {
    const context = this.context;
    context.beginPath();
    let drawing = false;
    for (let column = 0; column < row.length; column++) {
      const inside = Number.isFinite(row[column]);
      if (inside) context[drawing ? "lineTo" : "moveTo"](x(column + at), y(row[column]));
      drawing = inside;
    }
    context.strokeStyle = this.colours[colour];
    context.lineWidth = width;
    context.stroke();
  }

  limiter({ firstS, lastS, rows }) {
    const { limiter, x0, x1 } = this.strips, context = this.context, count = rows[4].length;
    this.text(10, limiter.top + 2, "Limiter", { colour: "ink", weight: 600, size: 11.5 });
    this.text(10, limiter.top + 15, "dB down");
    for (const db of [0, 6, 12]) {
      const y = limiter.top + (db / DEEPEST_DB) * limiter.tall;
      this.line([[x0, y], [x1, y]], "rule", 0.7);
      this.text(x1 + 12, y + 4, signed(-db), { mono: true });
    }
    const xOf = (at) => this.x(firstS + (at * (lastS - firstS)) / count);
    this.within(limiter, () => {
      context.fillStyle = this.colours.work;
      for (let at = 0; at < count; at++) {
        const db = rows[4][at];
        if (!(db > 0.02)) continue;
        context.fillRect(xOf(at), limiter.top, Math.max(1, xOf(at + 1) - xOf(at)), Math.max(1, Math.min(1, db / DEEPEST_DB) * limiter.tall));
      }
    });
  }

  scaleLoudness(series) {
    if (this.topLufs !== undefined) return;
    const values = series.shortTerm.flatMap((row) => [...row].filter(Number.isFinite)).sort((one, other) => one - other);
    const top = values.at(-1) ?? -12, low = values[Math.floor(values.length * 0.02)] ?? -48;
    this.topLufs = Math.ceil((Math.max(top, this.data.band_lufs?.[1] ?? -Infinity) + 1) / 6) * 6;
    this.lowLufs = Math.max(-72, Math.min(this.topLufs - 18, Math.floor((low - 1) / 6) * 6));
  }

  loudness(series) {
    this.scaleLoudness(series);
    const { loudness, x0, x1 } = this.strips, context = this.context, { band_lufs: band } = this.data;
    this.text(10, loudness.top - 16, "3 s, LUFS", { colour: "ink", weight: 600, size: 11.5 });
    for (let lufs = this.topLufs; lufs >= this.lowLufs; lufs -= 6) {
      const y = this.yOfLufs(lufs);
      this.line([[x0, y], [x1 + 12 + BARS_WIDE, y]], "rule", 0.7);
      this.text(x0 - 7, y + 4, signed(lufs), { align: "right", mono: true });
    }
    if (band) {
      context.globalAlpha = 0.75;
      context.fillStyle = this.colours.liquid;
      context.fillRect(x0, this.yOfLufs(band[1]), x1 - x0, Math.max(2, this.yOfLufs(band[0]) - this.yOfLufs(band[1])));
      context.globalAlpha = 1;
    }
    this.within(loudness, () => series.shortTerm.forEach((row, side) => {
      const first = Math.max(0, Math.floor(this.view.firstS * 10) - 2), last = Math.min(row.length, Math.ceil(this.view.lastS * 10) + 2);
      this.outline(row.subarray(first, last), (column) => this.x((first + column) / 10), (lufs) => this.yOfLufs(lufs), side ? "ink" : "faint", side ? 1.7 : 1.3, 1);
    }));
  }

  // How long each level lasts: before as bodies, after as outlines.
  distribution() {
    if (this.topLufs === undefined) return;
    const { loudness, x1 } = this.strips, x = x1 + 12;
    const [before, after] = this.data.histograms;
    const most = Math.max(...[...before, ...after].map(([, share]) => share), 0.01);
    this.text(x, loudness.top - 10, "time at each level");
    const bar = ([lufs, share]) => {
      const top = this.yOfLufs(lufs + 1);
      return [x, top + 0.5, (share / most) * BARS_WIDE, Math.max(1, this.yOfLufs(lufs) - top - 1)];
    };
    const inside = ([lufs]) => lufs >= this.lowLufs && lufs < this.topLufs;
    this.context.fillStyle = this.colours.wave;
    for (const each of before.filter(inside)) this.context.fillRect(...bar(each));
    this.context.strokeStyle = this.colours.ink;
    this.context.lineWidth = 1.2;
    for (const each of after.filter(inside)) this.context.strokeRect(...bar(each));
    this.data.integrated_lufs.forEach((lufs, side) => {
      if (lufs === null || lufs < this.lowLufs) return;
      const y = this.yOfLufs(lufs);
      this.line([[x - 8, y], [x, y]], side ? "ink" : "soft", 2.4);
      this.text(x + BARS_WIDE, y - 3, signed(lufs, 1), { align: "right", mono: true, isOver: true, colour: side ? "ink" : "soft", weight: side ? 600 : 400 });
    });
  }

  // What stands under the pointer, in words.
  readout(x, y, series) {
    const { x0, x1, loudness } = this.strips;
    if (x < x0 || x > x1 || !series) return "";
    const atS = this.seconds(x), at = Math.floor(atS * 10) - 1;
    const said = series.shortTerm.map((row, side) => (Number.isFinite(row[at]) ? `${this.data.names[side]} ${signed(row[at], 1)}` : null)).filter(Boolean);
    return y > loudness.top - 20 || said.length ? `${clock(atS, 2)}  ${said.join("  ")}${said.length ? " LUFS" : ""}` : clock(atS, 2);
  }
}
