// Uploads of all pages of this browser, in one shared worker: they live while pages come and go.
// One after the other: a board's order is the order in which files were let go.

importScripts("../vendor/tus/tus.min.js");

const PIECE_BYTES = 8 * 1024 * 1024;
const TOLD_MS = 150;
const RETRIES_MS = [0, 500, 1000, 2000, ...Array(600).fill(3000)];
const GIVES_UP_AT = new Set([400, 403, 404, 410, 413, 422, 507]);

const ports = new Set();
const entries = [];
let running = null;
let number = 0;
let timer = null;

onconnect = ({ ports: [port] }) => {
  ports.add(port);
  port.onmessage = ({ data }) => heard(port, data);
  port.start();
  tellSoon(0);
};

function heard(port, { kind, ...told }) {
  if (kind === "take") take(told);
  if (kind === "forget") forget(told.id);
  if (kind === "bye") ports.delete(port);
}

function take({ job, address, token, files, replaces }) {
  for (const file of files) {
    entries.push({ id: ++number, job, address, token, file, replaces, name: file.name, size: file.size, sent: 0, state: "waiting", message: "" });
  }
  tellSoon(0);
  next();
}

function forget(id) {
  const at = entries.findIndex((each) => each.id === id);
  if (at < 0) return;
  const [entry] = entries.splice(at, 1);
  if (entry === running) {
    entry.upload?.abort(true).catch(() => {});
    running = null;
    next();
  }
  tellSoon(0);
}

function next() {
  if (running) return;
  running = entries.find((each) => each.state === "waiting") ?? null;
  if (running) begin(running);
}

async function begin(entry) {
  entry.state = "uploading";
  const headers = { "X-CSRFToken": entry.token, Accept: "application/json" };
  entry.upload = new tus.Upload(entry.file, {
    endpoint: entry.address,
    uploadUrl: await begunBefore(entry),
    chunkSize: PIECE_BYTES,
    retryDelays: RETRIES_MS,
    storeFingerprintForResuming: false,
    removeFingerprintOnSuccess: true,
    headers,
    metadata: { filename: entry.name, changed: String(entry.file.lastModified || ""), replaces: entry.replaces },
    onShouldRetry: (error) => !GIVES_UP_AT.has(error.originalResponse?.getStatus()),
    onProgress: (sent) => {
      entry.sent = sent;
      tellSoon();
    },
    onError: (error) => end(entry, sentenceOf(error)),
    onSuccess: ({ lastResponse }) => {
      const said = lastResponse.getHeader("Nice-Level-Said");
      if (said) for (const port of ports) port.postMessage({ said: decodeURIComponent(said), job: entry.job });
      end(entry, null);
    },
  });
  entry.upload.start();
}

// What the server has of this very file already, from before a browser was closed.
async function begunBefore(entry) {
  try {
    const { uploads } = await (await fetch(entry.address, { headers: { Accept: "application/json" } })).json();
    const same = uploads.find((each) => each.name === entry.name && each.size_bytes === entry.size && each.changed_ms === entry.file.lastModified);
    return same?.address ?? null;
  } catch {
    return null;
  }
}

function end(entry, sentence) {
  if (sentence === null) entries.splice(entries.indexOf(entry), 1);
  else Object.assign(entry, { state: "failed", message: sentence });
  if (running === entry) running = null;
  tellSoon(0);
  next();
}

function sentenceOf(error) {
  try {
    return JSON.parse(error.originalResponse.getBody()).error.message;
  } catch {
    return "Nice Level does not answer. Let the file go here again and it goes on where it broke off.";
  }
}

function tellSoon(wait_ms = TOLD_MS) {
  if (wait_ms === 0) {
    clearTimeout(timer);
    timer = null;
    return tell();
  }
  timer ??= setTimeout(() => {
    timer = null;
    tell();
  }, wait_ms);
}

function tell() {
  const told = entries.map(({ id, job, name, size, sent, state, message }) => ({ id, job, name, size, sent, state, message }));
  for (const port of ports) port.postMessage(told);
}
