// What every drawing over time has: a canvas of strips, seconds as pixels, words and lines in the colours of the theme.

export class Chart {
  // lay: gives the strips of a canvas so wide and tall; of them x0 and x1 are where time begins and ends.
  constructor(canvas, data, lay) {
    Object.assign(this, { canvas, data, lay, context: canvas.getContext("2d") });
  }

  fit(width, height) {
    const ratio = devicePixelRatio || 1;
    Object.assign(this.canvas, { width: Math.round(width * ratio), height: Math.round(height * ratio) });
    Object.assign(this.canvas.style, { width: `${width}px`, height: `${height}px` });
    this.context.setTransform(ratio, 0, 0, ratio, 0, 0);
    this.strips = this.lay(width, height);
  }

  // Begins a drawing of what is looked at.
  begin(view) {
    this.view = view;
    this.colours = coloursNow();
    this.context.clearRect(0, 0, this.strips.width, this.strips.height);
  }

  x(atS) {
    const { x0, x1 } = this.strips;
    return x0 + ((atS - this.view.firstS) / this.view.spanS) * (x1 - x0);
  }

  seconds(x) {
    const { x0, x1 } = this.strips;
    return this.view.firstS + ((x - x0) / (x1 - x0)) * this.view.spanS;
  }

  // isOver: it may lie over what is drawn, and clears its own room.
  text(x, y, text, { colour = "soft", align = "left", weight = 400, size = 11, mono = false, isOver = false } = {}) {
    const context = this.context;
    context.font = `${weight} ${size}px ${mono ? '"NL Figures", monospace' : '"NL Text", sans-serif'}`;
    context.textAlign = align;
    if (isOver) {
      context.strokeStyle = this.colours.sheet;
      context.lineWidth = 4;
      context.lineJoin = "round";
      context.strokeText(text, x, y);
    }
    context.fillStyle = this.colours[colour];
    context.fillText(text, x, y);
  }

  line(points, colour, lineWidth = 1, dash = []) {
    const context = this.context;
    context.strokeStyle = this.colours[colour];
    context.lineWidth = lineWidth;
    context.setLineDash(dash);
    context.beginPath();
    points.forEach(([x, y], at) => (at ? context.lineTo(x, y) : context.moveTo(x, y)));
    context.stroke();
    context.setLineDash([]);
  }

  // Draws inside of a strip alone.
  within({ top, tall }, draw) {
    const { x0, x1 } = this.strips;
    this.context.save();
    this.context.beginPath();
    this.context.rect(x0, top - 2, x1 - x0, tall + 4);
    this.context.clip();
    draw();
    this.context.restore();
  }

  // On the strip of loudness, between the levels of its edges.
  yOfLufs(lufs) {
    const { loudness } = this.strips;
    const share = (this.topLufs - lufs) / (this.topLufs - this.lowLufs);
    return loudness.top + Math.max(0, Math.min(1, share)) * loudness.tall;
  }

  axis() {
    const { axis, x0, x1 } = this.strips;
    this.line([[x0, axis.top], [x1, axis.top]], "ink");
    const stepS = stepFor(this.view.spanS / 9);
    const decimals = Math.max(0, -Math.floor(Math.log10(stepS)));
    for (let tick = Math.ceil(this.view.firstS / stepS); tick * stepS <= this.view.lastS; tick++) {
      const x = this.x(tick * stepS);
      this.line([[x, axis.top], [x, axis.top + 5]], "ink");
      this.text(x, axis.top + 18, clock(tick * stepS + 1e-9, decimals), { align: "center", mono: true });
    }
  }

  // The whole in a strip of its own, with a frame round what is looked at. draw: draws it where it is looked at whole.
  whole(draw) {
    const { all, x0, x1 } = this.strips, { view, context } = this, { duration_s: durationS } = this.data;
    this.text(10, all.top + all.tall / 2 + 4, "All", { colour: "ink", weight: 600, size: 11.5 });
    this.view = { firstS: 0, lastS: durationS, spanS: durationS };
    draw(all);
    this.view = view;
    const x = (atS) => x0 + (atS / durationS) * (x1 - x0);
    context.strokeStyle = this.colours.pick;
    context.lineWidth = 1.4;
    context.beginPath();
    context.roundRect(x(view.firstS), all.top, Math.max(3, x(view.lastS) - x(view.firstS)), all.tall, 3);
    context.stroke();
  }

  cursor(atS, top) {
    if (this.view.holds(atS)) this.line([[this.x(atS), top], [this.x(atS), this.strips.axis.top]], "pick", 1.4);
  }
}

export const signed = (value, decimals = 0) => value.toFixed(decimals).replace("-", "−");

// 0:12.4, 12:41.0, 1:02:00: a time on a clock, never before it has come.
export function clock(atS, decimals = 0) {
  const scaled = Math.floor(atS * 10 ** decimals + 1e-6) / 10 ** decimals;
  const hours = Math.floor(scaled / 3600), minutes = Math.floor((scaled % 3600) / 60);
  const seconds = (scaled - hours * 3600 - minutes * 60).toFixed(decimals).padStart(decimals ? decimals + 3 : 2, "0");
  return hours ? `${hours}:${String(minutes).padStart(2, "0")}:${seconds}` : `${minutes}:${seconds}`;
}

// A round step of time at least this long.
function stepFor(leastS) {
  const rounds = [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200];
  if (leastS >= 1) return rounds.find((step) => step >= leastS) || 14400;
  const power = 10 ** Math.floor(Math.log10(leastS));
  return [1, 2, 5, 10].map((step) => step * power).find((step) => step >= leastS * 0.999);
}

// The colours of the theme that is on.
function coloursNow() {
  const style = getComputedStyle(document.documentElement);
  const names = { ink: "--ink", soft: "--soft", faint: "--faint", rule: "--rule", sheet: "--sheet", wave: "--wave", core: "--wave-core", liquid: "--liquid", deep: "--liquid-deep", good: "--good", work: "--work", bad: "--bad", pick: "--pick" };
  return Object.fromEntries(Object.entries(names).map(([name, token]) => [name, style.getPropertyValue(token).trim()]));
}
