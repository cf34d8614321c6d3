// A page's side of uploading: hands files to the shared worker, hears how far all of them are, asks before leaving.

import { say } from "../page.js";

const LIVES_ON = Boolean(globalThis.navigation);
const token = document.querySelector("meta[name=csrf-token]").content;
const ANSWER_MS = 5000;

let told = [];
let goesOnInside = false;
const watchers = [];
const toldIt = []; // all that was said to a worker from which nothing has been heard yet
let port = null;
let isHeard = false;

connect(1);

// A worker says a word when it is met. One that stays silent, as one that a page before had begun and left may, is not
// relied on: another takes its place and is told the same.
function connect(number) {
  const name = number === 1 ? "uploads" : `uploads ${number}`;
  const mine = new SharedWorker(new URL("worker.js", import.meta.url), { name, extendedLifetime: true }).port;
  const silent = setTimeout(() => connect(number + 1), ANSWER_MS * number);
  port = mine;
  port.onmessage = ({ data }) => {
    if (port !== mine) return;
    clearTimeout(silent);
    isHeard = true;
    toldIt.length = 0;
    hear(data);
  };
  for (const message of toldIt) port.postMessage(message);
}

function hear(data) {
  if (data.said) return say(data.said);
  told = data;
  for (const each of watchers) each(told);
}

function tell(message) {
  if (!isHeard) toldIt.push(message);
  port.postMessage(message);
}

// Gets { id, job, name, size, sent, state, message } of everything that is being uploaded, now and at every change.
export function watchUploads(onChange) {
  watchers.push(onChange);
  onChange(told);
}

// replaces: the id of the source that a file is given for, where it is given for one.
export function takeFiles(job, address, files, replaces = "") {
  const where = new URL(address, location.href).href;
  tell({ kind: "take", job: String(job), address: where, token, files, replaces });
}

export function forgetUpload(id) {
  tell({ kind: "forget", id });
}

export const isUploading = () => toldIt.some(({ kind }) => kind === "take") || told.some((each) => each.state !== "failed");

// From one page of ours to the next uploads live on, where the browser keeps the worker; elsewhere leaving is asked about.
globalThis.navigation?.addEventListener("navigate", ({ destination }) => {
  goesOnInside = new URL(destination.url).origin === location.origin;
});

addEventListener("beforeunload", (event) => {
  if (isUploading() && !(LIVES_ON && goesOnInside)) event.preventDefault();
});

addEventListener("pagehide", () => port.postMessage({ kind: "bye" }));
