// Asking the server. Every request carries the page's token; every failure becomes a sentence.

import { tellChanged } from "./changes.js";

const token = document.querySelector("meta[name=csrf-token]").content;
const COUNTED_AGAIN_MS = 500;
const UNREACHABLE = "Nice Level does not answer. Is it still running?";

// Changes are asked for one after the other: whoever lets a line go and takes that back at once must not have the second
// done before the first.
let before = Promise.resolve();

export async function post(address, fields = {}) {
  const asked = before.then(() => posted(address, fields));
  before = asked.catch(() => null);
  const answer = await asked;
  tellChanged();
  return answer.json();
}

// For what changes nothing and comes drawn.
export async function postForHtml(address, fields) {
  return (await posted(address, fields)).text();
}

function posted(address, fields) {
  return ask(address, {
    method: "POST",
    body: new URLSearchParams(fields),
    headers: { "X-CSRFToken": token, Accept: "application/json" },
  });
}

export async function getHtml(address) {
  const answer = await ask(address, { headers: { Accept: "text/html" } });
  return answer.text();
}

// What is counted over a whole job: until that is done the server has nothing to show, and is asked again.
export async function getCounted(address) {
  const asked = performance.now();
  for (;;) {
    const html = await getHtml(`${address}?waited_ms=${Math.round(performance.now() - asked)}`);
    if (html) return html;
    await new Promise((resolve) => setTimeout(resolve, COUNTED_AGAIN_MS));
  }
}

export async function getJson(address) {
  const answer = await ask(address, { headers: { Accept: "application/json" } });
  return answer.json();
}

async function ask(address, options) {
  let answer;
  try {
    answer = await fetch(address, options);
  } catch {
    throw new Error(UNREACHABLE);
  }
  if (!answer.ok) throw await errorOf(answer);
  return answer;
}

// An error with the sentence for people, the code, and the key of the field that is wrong where one is.
async function errorOf(answer) {
  try {
    const { message, code, key } = (await answer.json()).error;
    return Object.assign(new Error(message), { code, key, status: answer.status });
  } catch {
    return new Error(`The server answered ${answer.status}.`);
  }
}

// A small file as the body of a request.
export async function sendFile(address, file) {
  const headers = { "X-CSRFToken": token, Accept: "application/json", "Content-Type": "application/octet-stream" };
  const answer = await ask(`${address}?name=${encodeURIComponent(file.name)}`, { method: "POST", body: file, headers });
  return answer.json();
}

export async function remove(address) {
  await ask(address, { method: "DELETE", headers: { "X-CSRFToken": token, Accept: "application/json" } });
}
