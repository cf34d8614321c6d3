// What is said when rendering was asked for: what is on the queue, and what of it is not, and why.

export function whatIsQueued({ queued, held, coming }, nothing) {
  const waits = `${held} source${held === 1 ? " waits" : "s wait"} for an answer to what the board asks above its rows.`;
  const follows = `${coming} ${coming === 1 ? "has no plan yet: render it once it has" : "have no plan yet: render them once they have"}.`;
  const isAsked = queued || !(held || coming);
  return [isAsked && (queued ? `${queued} on the queue.` : nothing), held && waits, coming && follows].filter(Boolean).join(" ");
}
