// Which step is which once they were drawn anew: the nearest that says the same, or else the one in its place that does
// the same.
export function* pairs(before, now) {
  const left = new Set(now), unpaired = [];
  for (const [at, step] of before.entries()) {
    const same = [...left].filter((each) => each.dataset.stored === step.dataset.stored);
    const nearest = same.sort((one, other) => Math.abs(now.indexOf(one) - at) - Math.abs(now.indexOf(other) - at))[0];
    if (!nearest) unpaired.push([at, step]);
    else if (left.delete(nearest)) yield [step, nearest];
  }
  for (const [at, step] of unpaired) {
    if (left.has(now[at]) && kindOf(now[at]) === kindOf(step)) yield [step, now[at]];
  }
}

export const kindOf = (step) => JSON.parse(step.dataset.stored).do;
