// A page's side of uploading: hands files to the shared worker, hears how far all of them are, asks before leaving.

import { say } from "../page.js";

const LIVES_ON = Boolean(globalThis.navigation);
const token = document.querySelector("meta[name=csrf-token]").content;
const worker = new SharedWorker(new URL("worker.js", import.meta.url), { name: "uploads", extendedLifetime: true });

let told = [];
let goesOnInside = false;
const watchers = [];

worker.port.onmessage = ({ data }) => {
  if (data.said) return say(data.said);
  told = data;
  for (const each of watchers) each(told);
};

// Gets { id, job, name, size, sent, state, message } of everything that is being uploaded, now and at every change.
export function watchUploads(onChange) {
  watchers.push(onChange);
  onChange(told);
}

// replaces: the id of the source that a file is given for, where it is given for one.
export function takeFiles(job, address, files, replaces = "") {
  const where = new URL(address, location.href).href;
  worker.port.postMessage({ kind: "take", job: String(job), address: where, token, files, replaces });
}

export function forgetUpload(id) {
  worker.port.postMessage({ kind: "forget", id });
}

export const isUploading = () => told.some((each) => each.state !== "failed");

// From one page of ours to the next uploads live on, where the browser keeps the worker; elsewhere leaving is asked about.
globalThis.navigation?.addEventListener("navigate", ({ destination }) => {
  goesOnInside = new URL(destination.url).origin === location.origin;
});

addEventListener("beforeunload", (event) => {
  if (isUploading() && !(LIVES_ON && goesOnInside)) event.preventDefault();
});

addEventListener("pagehide", () => worker.port.postMessage({ kind: "bye" }));
