// The strips of the time view: waveform, peaks, loudness with its distribution, correlation, overview, spectrum.
// Everything comes measured from the server; here it is only brought to pixels.

import { Chart, signed } from "../chart.js";

const LEFT = 78, RIGHT = 118, MOST_CHANNELS = 8;
const BIN_MS = 1;
const LINE_UNDER_FRAMES = 3, DOTS_UNDER_FRAMES = 0.2;
const SPECTRUM_LOW_DB = -110;

// Where each strip lies in a canvas of this size.
export function layout(width, height, channels) {
  const strips = { width, height, x0: LEFT, x1: width - RIGHT };
  const shown = Math.min(channels, MOST_CHANNELS);
  const take = (name, top, tall) => (strips[name] = { top, tall, bottom: top + tall });
  take("notes", 6, 18);
  take("waves", 28, Math.max(110, Math.round(height * 0.24)));
  strips.shown = shown;
  take("peaks", strips.waves.bottom + 6, 18);
  const spectrum = Math.max(80, Math.round(height * 0.15));
  take("spectrum", height - spectrum - 20, spectrum);
  take("all", strips.spectrum.top - 46, 28);
  take("axis", strips.all.top - 30, 24);
  const pair = channels === 2 ? 44 : 0;
  take("pair", strips.axis.top - pair - 4, pair);
  take("loudness", strips.peaks.bottom + 28, strips.pair.top - strips.peaks.bottom - 42);
  return strips;
}

export class Painter extends Chart {
  constructor(canvas, data) {
    super(canvas, data, (width, height) => layout(width, height, data.channels.length));
    this.lift = 1; // how much taller than full scale the waveform is drawn
  }

  draw(view, parts, series, state) {
    this.begin(view);
    const detail = this.waves(parts);
    this.peaks();
    if (series) {
      this.loudness(series);
      this.pair(series);
    }
    this.distribution();
    this.axis();
    this.overview(parts);
    this.spectrum(state.spectrumBand);
    this.notes(state.note);
    this.cursor(state.cursorS, this.strips.notes.bottom);
    return detail;
  }

  // Marks of every note that has places; its word once, at the first one in view.
  notes(chosen) {
    const { notes, x0, x1, axis } = this.strips;
    const context = this.context;
    this.line([[x0, notes.bottom], [x1, notes.bottom]], "rule");
    this.marks = [];
    this.data.notes.forEach((note, number) => {
      context.fillStyle = this.colours[note.grave ? "bad" : "work"];
      note.places.forEach(([firstS, lastS], place) => {
        if (lastS < this.view.firstS || firstS > this.view.lastS) return;
        const x = Math.max(x0, Math.min(x1, this.x(firstS))), wide = Math.min(x1, this.x(lastS)) - x;
        context.globalAlpha = number === chosen ? 0.2 : 0.09;
        if (wide > 2) context.fillRect(x, notes.bottom, wide, axis.top - notes.bottom);
        context.globalAlpha = 1;
        context.fillRect(x - 0.75, notes.top, 1.5, notes.tall);
        this.marks.push({ x, number, place });
      });
    });
    this.noteWords();
  }

  noteWords() {
    const { notes, x1 } = this.strips;
    const context = this.context;
    let free = -Infinity;
    const first = this.data.notes.map((_, number) => this.marks.find((mark) => mark.number === number)).filter(Boolean);
    for (const { x, number } of first.sort((one, other) => one.x - other.x)) {
      const note = this.data.notes[number], colour = note.grave ? "bad" : "work";
      context.font = '400 11px "NL Text", sans-serif';
      const room = context.measureText(note.word).width + 10;
      const start = Math.max(free, x + room > x1 ? x - room - 1 : x + 1);
      if (start + room > x1 + 100) continue;
      context.fillStyle = this.colours.sheet;
      context.fillRect(start, notes.top, room, notes.tall - 2);
      context.globalAlpha = 0.14;
      context.fillStyle = this.colours[colour];
      context.fillRect(start, notes.top, room, notes.tall - 2);
      context.globalAlpha = 1;
      this.text(start + 5, notes.top + 12, note.word, { colour });
      free = start + room + 4;
    }
  }

  waves(parts) {
    const { waves, shown, x0, x1 } = this.strips;
    const tall = waves.tall / shown;
    const detail = this.columns(parts);
    for (let channel = 0; channel < shown; channel++) {
      const middle = waves.top + tall * (channel + 0.5), half = tall / 2 - 3;
      const name = this.data.channels[channel];
      this.text(10, middle + 4, name, { colour: "ink", weight: 600, size: 11.5 });
      this.line([[x0, middle], [x1, middle]], "rule");
      this.text(x1 + 10, middle + 4, `${this.data.true_peaks[channel]} dBTP`, { mono: true });
      for (const side of [-1, 1]) this.line([[x0, middle + side * half], [x1, middle + side * half]], "rule", 1, [1, 4]);
      if (detail.kind === "samples" && detail.framesPerPixel < LINE_UNDER_FRAMES) this.polyline(detail, channel, middle, half);
      else this.bars(detail, channel, middle, half);
    }
    if (this.lift > 1) this.text(x1 + 10, waves.top + 8, `drawn ${this.lift}× taller`, { colour: "pick" });
    if (this.data.channels.length > shown) this.text(10, waves.bottom + 2, `+ ${this.data.channels.length - shown} more`);
    return detail.kind;
  }

  // One column a pixel: lowest, highest and level of what falls into it, from samples or from the fittest bins.
  columns(parts) {
    const { x0, x1 } = this.strips;
    const { rate_hz: rateHz, channels } = this.data;
    const framesPerPixel = (this.view.spanS * rateHz) / (x1 - x0);
    if (framesPerPixel < (BIN_MS * rateHz) / 1000) {
      const found = this.samplesInView(parts);
      if (found) return { kind: "samples", framesPerPixel, ...found };
    }
    const msPerPixel = (this.view.spanS * 1000) / (x1 - x0);
    let level = 0;
    while (level < this.data.levels - 1 && this.data.bins_joined ** (level + 1) <= msPerPixel) level++;
    for (let coarser = level; coarser < this.data.levels; coarser++) {
      const found = this.binsInView(parts, coarser, channels.length);
      if (found) return { kind: "bins", framesPerPixel, ...found };
    }
    return { kind: "none" };
  }

  samplesInView(parts) {
    const { rate_hz: rateHz, chunk_frames: chunkFrames, frames } = this.data;
    const first = Math.max(0, Math.floor(this.view.firstS * rateHz) - 1);
    const last = Math.min(frames - 1, Math.ceil(this.view.lastS * rateHz) + 1);
    const chunks = this.chunks(first, last, chunkFrames, (chunk) => parts.samples(chunk));
    return chunks && { first, last, chunks, chunkFrames };
  }

  binsInView(parts, level, channels) {
    const ms = this.data.bins_joined ** level * BIN_MS;
    const bins = Math.ceil((this.data.duration_s * 1000) / ms);
    const first = Math.max(0, Math.floor((this.view.firstS * 1000) / ms));
    const last = Math.min(bins - 1, Math.ceil((this.view.lastS * 1000) / ms));
    const chunks = this.chunks(first, last, this.data.chunk_bins, (chunk) => parts.bins(level, chunk));
    return chunks && { first, last, chunks, ms, channels };
  }

  chunks(first, last, size, get) {
    const chunks = new Map();
    let all = true;
    for (let chunk = Math.floor(first / size); chunk <= Math.floor(last / size); chunk++) {
      const found = get(chunk);
      if (found) chunks.set(chunk, found);
      else all = false;
    }
    return all ? chunks : null;
  }

  bars(detail, channel, middle, half) {
    if (detail.kind === "none") return;
    const { x0, x1 } = this.strips;
    const columns = Math.round(x1 - x0);
    const outer = new Path2D(), inner = new Path2D();
    for (let column = 0; column < columns; column++) {
      const span = detail.kind === "bins" ? this.spanOfBins(detail, channel, column, columns) : this.spanOfSamples(detail, channel, column, columns);
      if (!span) continue;
      const [low, high, level] = span, x = x0 + column + 0.5;
      const y = (value) => middle - Math.max(-1, Math.min(1, value * this.lift)) * half;
      outer.moveTo(x, y(high) - 0.4);
      outer.lineTo(x, y(low) + 0.4);
      if (level) {
        inner.moveTo(x, y(Math.min(level, high)));
        inner.lineTo(x, y(Math.max(-level, low)));
      }
    }
    const context = this.context;
    context.lineWidth = 1;
    context.strokeStyle = detail.kind === "samples" ? this.colours.core : this.colours.wave;
    context.stroke(outer);
    context.strokeStyle = this.colours.core;
    context.stroke(inner);
  }

  spanOfBins(detail, channel, column, columns) {
    const fromMs = (this.view.firstS + (column / columns) * this.view.spanS) * 1000;
    const toMs = fromMs + (this.view.spanS * 1000) / columns;
    const first = Math.floor(fromMs / detail.ms), last = Math.max(first, Math.ceil(toMs / detail.ms) - 1);
    let low = Infinity, high = -Infinity, level = 0;
    for (let bin = first; bin <= Math.min(last, detail.last); bin++) {
      const chunk = detail.chunks.get(Math.floor(bin / this.data.chunk_bins));
      const at = ((bin % this.data.chunk_bins) * detail.channels + channel) * 3;
      if (!chunk || at >= chunk.length) continue;
      low = Math.min(low, chunk[at]);
      high = Math.max(high, chunk[at + 1]);
      level = Math.max(level, chunk[at + 2]);
    }
    const scale = this.data.full_scale;
    return high < low ? null : [low / scale, high / scale, level / scale];
  }

  sample(detail, frame, channel) {
    const chunk = detail.chunks.get(Math.floor(frame / detail.chunkFrames));
    return chunk?.[(frame % detail.chunkFrames) * this.data.channels.length + channel];
  }

  spanOfSamples(detail, channel, column, columns) {
    const from = (this.view.firstS + (column / columns) * this.view.spanS) * this.data.rate_hz;
    const to = from + detail.framesPerPixel + 1;
    let low = Infinity, high = -Infinity;
    for (let frame = Math.max(detail.first, Math.floor(from)); frame < Math.min(to, detail.last + 1); frame++) {
      const value = this.sample(detail, frame, channel);
      if (value === undefined) continue;
      low = Math.min(low, value);
      high = Math.max(high, value);
    }
    return high < low ? null : [low, high, 0];
  }

  polyline(detail, channel, middle, half) {
    const points = [];
    for (let frame = detail.first; frame <= detail.last; frame++) {
      const value = this.sample(detail, frame, channel);
      if (value !== undefined) points.push([this.x(frame / this.data.rate_hz), middle - Math.max(-1, Math.min(1, value * this.lift)) * half]);
    }
    this.within(this.strips.waves, () => {
      this.line(points, "core", 1.4);
      if (detail.framesPerPixel >= DOTS_UNDER_FRAMES) return;
      this.context.fillStyle = this.colours.ink;
      for (const [x, y] of points) this.context.fillRect(x - 1.75, y - 1.75, 3.5, 3.5);
    });
  }

  peaks() {
    const { peaks, x0, x1 } = this.strips;
    this.text(10, peaks.top + 8, "Peaks", { colour: "ink", weight: 600, size: 11.5 });
    this.text(10, peaks.top + 20, "over 0 dBTP");
    this.line([[x0, peaks.bottom], [x1, peaks.bottom]], "rule");
    this.context.fillStyle = this.colours.bad;
    for (const [firstS, lastS] of this.data.overs) {
      if (lastS < this.view.firstS || firstS > this.view.lastS) continue;
      const x = Math.max(x0, this.x(firstS));
      this.context.fillRect(x, peaks.top + 2, Math.max(1.2, Math.min(x1, this.x(lastS)) - x), peaks.tall - 2);
    }
  }

  scaleLoudness(series) {
    if (this.topLufs !== undefined) return;
    let top = -Infinity;
    for (const value of series.momentary) if (value > top) top = value;
    this.topLufs = Number.isFinite(top) ? Math.ceil(top / 6) * 6 : 0;
    const low = Math.min(this.data.gate_lufs ?? 0, this.data.range_lufs?.[0] ?? 0, this.topLufs - 24);
    this.lowLufs = Math.max(-72, Math.floor((low - 4) / 6) * 6);
  }

  loudness(series) {
    this.scaleLoudness(series);
    const { loudness, x0, x1 } = this.strips;
    this.text(10, loudness.top - 8, "Loudness", { colour: "ink", weight: 600, size: 11.5 });
    this.text(10, loudness.top + 4, "LUFS");
    for (let lufs = this.topLufs; lufs >= this.lowLufs; lufs -= 6) {
      const y = this.yOfLufs(lufs);
      this.line([[x0, y], [x1 + 104, y]], "rule", 0.7);
      this.text(x0 - 7, y + 4, signed(lufs), { align: "right", mono: true });
    }
    const { range_lufs: range, integrated_lufs: integrated, gate_lufs: gate } = this.data;
    if (range) {
      this.context.globalAlpha = 0.3;
      this.context.fillStyle = this.colours.liquid;
      this.context.fillRect(x0, this.yOfLufs(range[1]), x1 - x0, this.yOfLufs(range[0]) - this.yOfLufs(range[1]));
      this.context.globalAlpha = 1;
    }
    this.curve(series.momentary, "faint", 0.9);
    this.curve(series.shortTerm, "ink", 1.7);
    if (integrated !== null) {
      const y = this.yOfLufs(integrated);
      this.line([[x0, y], [x1 + 104, y]], "good", 1.4);
    }
    if (gate !== null && gate > this.lowLufs) {
      const y = this.yOfLufs(gate);
      this.line([[x0, y], [x1, y]], "soft", 1, [3, 3]);
      // Beside the curves, not on them; the list of figures says what it means.
      this.text(x1 + 10, y + 12, `gate ${signed(gate, 1)}`);
    }
  }

  // A value every tenth of a second, drawn where its window ends; no more than a few points a pixel.
  curve(values, colour, lineWidth) {
    const { x0, x1, loudness } = this.strips;
    const first = Math.max(0, Math.floor(this.view.firstS * 10) - 2), last = Math.min(values.length, Math.ceil(this.view.lastS * 10) + 1);
    const step = Math.max(1, Math.floor((last - first) / (2 * (x1 - x0))));
    const path = new Path2D();
    let drawing = false;
    for (let at = first; at < last; at += step) {
      let value = -Infinity;
      for (let near = at; near < Math.min(last, at + step); near++) if (values[near] > value) value = values[near];
      const inside = Number.isFinite(value);
      if (inside) path[drawing ? "lineTo" : "moveTo"](this.x((at + 1) / 10), this.yOfLufs(value));
      drawing = inside;
    }
    this.within(loudness, () => {
      Object.assign(this.context, { strokeStyle: this.colours[colour], lineWidth });
      this.context.stroke(path);
    });
  }

  // How long the programme stays at each level, on the axis of the loudness.
  distribution() {
    if (this.topLufs === undefined) return;
    const { loudness, x1 } = this.strips;
    const { histogram, range_lufs: range, range_lu: rangeLu } = this.data;
    const most = Math.max(...histogram.map(([, share]) => share), 0.01);
    this.text(x1 + 10, loudness.top - 6, "time at each level");
    for (const [lufs, share] of histogram) {
      if (lufs < this.lowLufs) continue;
      const top = this.yOfLufs(lufs + 1), tall = Math.max(1, this.yOfLufs(lufs) - top - 0.8);
      const inside = range && lufs + 0.5 >= range[0] && lufs + 0.5 <= range[1];
      this.context.fillStyle = inside ? this.colours.deep : this.colours.wave;
      this.context.fillRect(x1 + 10, top, (share / most) * 84, tall);
    }
    if (!range) return;
    const [low, high] = range.map((lufs) => this.yOfLufs(lufs));
    this.line([[x1 + 102, high], [x1 + 108, high], [x1 + 108, low], [x1 + 102, low]], "ink");
    this.text(x1 + 108, Math.min(low + 14, loudness.bottom + 10), `range ${rangeLu.toFixed(1)} LU`, { colour: "ink", align: "right" });
  }

  pair(series) {
    const { pair, x0, x1 } = this.strips;
    if (!pair.tall) return;
    const middle = pair.top + pair.tall / 2, half = pair.tall / 2 - 1;
    this.text(10, middle - 2, "Sides", { colour: "ink", weight: 600, size: 11.5 });
    this.text(10, middle + 11, "correlation");
    this.line([[x0, middle], [x1, middle]], "rule");
    ["+1 the same", "0 unrelated", "−1 opposite"].forEach((word, at) => this.text(x1 + 10, pair.top + 6 + at * (half - 1), word));
    const columns = Math.round(x1 - x0);
    const up = new Path2D(), down = new Path2D();
    for (let column = 0; column < columns; column++) {
      const fromS = this.view.firstS + (column / columns) * this.view.spanS, toS = fromS + this.view.spanS / columns;
      let least = Infinity;
      for (let at = Math.floor(fromS * 10); at <= Math.max(Math.floor(fromS * 10), Math.ceil(toS * 10) - 1); at++) {
        if (series.correlation[at] < least) least = series.correlation[at];
      }
      if (!Number.isFinite(least)) continue;
      const path = least < 0 ? down : up;
      path.moveTo(x0 + column + 0.5, middle);
      path.lineTo(x0 + column + 0.5, middle - least * half);
    }
    this.context.lineWidth = 1;
    this.context.strokeStyle = this.colours.core;
    this.context.stroke(up);
    this.context.strokeStyle = this.colours.work;
    this.context.stroke(down);
  }

  overview(parts) {
    const lift = this.lift;
    this.lift = 1;
    this.whole((all) => {
      const detail = this.columns({ bins: (level, chunk) => parts.bins(level, chunk), samples: () => null });
      this.bars(detail, 0, all.top + all.tall / 2, all.tall / 2 - 3);
    });
    this.lift = lift;
  }

  hzOf(x) {
    const { x0, x1 } = this.strips;
    const [low, high] = this.spectrumEnds();
    return low * (high / low) ** ((x - x0) / (x1 - x0));
  }

  spectrumEnds() {
    return [20, this.data.rate_hz / 2];
  }

  spectrum(chosen) {
    const { spectrum: strip, x0, x1 } = this.strips;
    this.text(10, strip.top + 12, "Spectrum", { colour: "ink", weight: 600, size: 11.5 });
    this.text(10, strip.top + 25, "mean, dB");
    const bands = this.data.spectrum;
    if (!bands.length) return this.text(x0, strip.top + 20, "too short for a spectrum");
    const [low, high] = this.spectrumEnds();
    const x = (hz) => x0 + (Math.log(hz / low) / Math.log(high / low)) * (x1 - x0);
    const top = Math.ceil(Math.max(...bands.map(([, db]) => db)) / 20) * 20;
    const y = (db) => strip.top + (Math.min(1, (top - db) / (top - SPECTRUM_LOW_DB))) * strip.tall;
    for (let db = top; db >= SPECTRUM_LOW_DB; db -= 40) {
      this.line([[x0, y(db)], [x1, y(db)]], "rule", 0.7);
      this.text(x1 + 10, y(db) + 4, signed(db), { mono: true });
    }
    for (const hz of [20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000, 50000]) {
      if (hz > high) break;
      this.line([[x(hz), strip.top], [x(hz), strip.bottom]], "rule", 0.7);
      this.text(x(hz), strip.bottom + 13, hz < 1000 ? `${hz}` : `${hz / 1000}k`, { align: "center", mono: true });
    }
    const context = this.context;
    context.beginPath();
    context.moveTo(x(bands[0][0]), strip.bottom);
    for (const [hz, db] of bands) context.lineTo(x(hz), y(db));
    context.lineTo(x(bands.at(-1)[0]), strip.bottom);
    context.fillStyle = this.colours.wave;
    context.globalAlpha = 0.5;
    context.fill();
    context.globalAlpha = 1;
    this.line(bands.map(([hz, db]) => [x(hz), y(db)]), "core", 1.3);
    if (!chosen) return;
    const [hz, db] = chosen;
    this.line([[x(hz), strip.top], [x(hz), strip.bottom]], "pick", 1.2);
    const right = x(hz) > (x0 + x1) / 2;
    this.text(x(hz) + (right ? -6 : 6), strip.top + 12, bandText(chosen), { colour: "pick", align: right ? "right" : "left", weight: 600, mono: true });
    context.fillStyle = this.colours.pick;
    context.fillRect(x(hz) - 2, y(db) - 2, 4, 4);
  }
}

export const bandText = ([hz, db]) => `${hz < 1000 ? `${hz.toFixed(hz < 100 ? 1 : 0)} Hz` : `${(hz / 1000).toFixed(2)} kHz`} ${signed(db, 1)} dB`;
