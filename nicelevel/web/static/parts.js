// Swapping parts of a page that the server drew anew.

const CONTROLS = "a[href], button, input, select, textarea, summary, [tabindex]";

// Swaps every element of some HTML, outside a table, that has an id; whether there were any.
export function swapParts(fresh) {
  const page = typeof fresh === "string" ? parsed(fresh) : fresh;
  const parts = [...page.querySelectorAll("body > [id]")];
  keepingFocus(() => {
    for (const part of parts) swapPart(document.getElementById(part.id), part);
  });
  return parts.length > 0;
}

// What is being pressed stays until it is let go: else the press would come to nothing, for a click is made where the
// button went down.
let pressed = null;
const waiting = new Map();
addEventListener("pointerdown", ({ target }) => (pressed = target), true);
for (const name of ["pointerup", "pointercancel"]) {
  addEventListener(name, () => setTimeout(letGo), true); // the click comes first
}

function letGo() {
  pressed = null;
  if (!waiting.size) return;
  keepingFocus(() => {
    for (const part of waiting.values()) document.getElementById(part.id)?.replaceWith(part);
  });
  waiting.clear();
  dispatchEvent(new Event("swapped"));
}

export function swapPart(old, part) {
  waiting.delete(part.id);
  if (pressed && old?.contains(pressed)) waiting.set(part.id, part);
  else old?.replaceWith(part);
}

// Who has the focus keeps it, also where it was drawn anew. Where another control has come to its place, the part itself
// gets it: who presses Enter twice must not stop what the first one began.
export function keepingFocus(swap) {
  const held = document.activeElement;
  const part = held?.closest("[id]");
  const place = part ? [...part.querySelectorAll(CONTROLS)].indexOf(held) : -1;
  swap();
  if (!part || held.isConnected) return;
  giveFocus(held, part, place);
  heirs.set(held, document.activeElement);
}

function giveFocus(held, part, place) {
  const now = document.getElementById(part.id);
  const there = held === part ? now : now?.querySelectorAll(CONTROLS)[place];
  if (there && does(there) === does(held)) there.focus({ preventScroll: true });
  if (now && document.activeElement === document.body) {
    if (!now.matches(CONTROLS)) now.tabIndex = -1;
    now.focus({ preventScroll: true });
  }
}

// What has come by the focus of an element that was drawn anew, however often; itself where it was not.
const heirs = new WeakMap();

export function inherit(element, heir) {
  if (heir !== element) heirs.set(element, heir);
}

export function heirOf(element) {
  while (heirs.has(element)) element = heirs.get(element);
  return element;
}

// What a control does, whatever it says of it.
function does(control) {
  const told = [...control.attributes].filter(({ name }) => /^(x-on|href|data-|name|value|action)/.test(name) && name !== "data-state");
  return [control.tagName, ...told.map(({ name, value }) => `${name}=${value}`)].join(" ");
}

export function parsed(html) {
  return new DOMParser().parseFromString(html, "text/html");
}
