// Asking the server. Every request carries the page's token; every failure becomes a sentence.

import { tellChanged } from "./changes.js";

const token = document.querySelector("meta[name=csrf-token]").content;
const UNREACHABLE = "Nice Level does not answer. Is it still running?";

export async function post(address, fields = {}) {
  const answer = await posted(address, fields);
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
  if (!answer.ok) throw new Error(await sentenceOf(answer));
  return answer;
}

async function sentenceOf(answer) {
  try {
    return (await answer.json()).error.message;
  } catch {
    return `The server answered ${answer.status}.`;
  }
}

// Uploads one file as the body of a request; `onProgress` gets the share that has gone out.
export function upload(address, file, onProgress) {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", `${address}?name=${encodeURIComponent(file.name)}&changed=${file.lastModified || ""}`);
    request.setRequestHeader("X-CSRFToken", token);
    request.setRequestHeader("Accept", "application/json");
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.responseType = "json";
    request.upload.onprogress = (event) => onProgress(event.total ? event.loaded / event.total : 1);
    request.onerror = () => reject(new Error(UNREACHABLE));
    request.onload = () => {
      if (request.status < 300) resolve(request.response);
      else reject(new Error(request.response?.error?.message || `The server answered ${request.status}.`));
    };
    request.send(file);
  });
}
