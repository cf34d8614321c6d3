// Keeps the board true: the server says what changed, the parts that changed are fetched and swapped.

import { say } from "../page.js";
import { getHtml } from "../requests.js";

const GATHER_MS = 120;

export function watchChanges({ events, parts }, afterChange) {
  const changed = new Set();
  let timer = null;
  let everything = false;
  let asking = false;

  // One question at a time: an older answer must never land on a newer one.
  const refresh = async () => {
    timer = null;
    asking = true;
    const ids = everything ? [] : [...changed];
    const address = `${parts}?${ids.map((id) => `source=${id}`).join("&")}`;
    everything = false;
    changed.clear();
    try {
      swap(await getHtml(address), ids);
      afterChange();
    } catch (error) {
      say(error.message);
    }
    asking = false;
    if (everything || changed.size) gather();
  };
  const gather = () => {
    if (!asking) timer ??= setTimeout(refresh, GATHER_MS);
  };

  const stream = new EventSource(events);
  // On every (re)connection the whole board is fetched: nothing said in between is missed.
  stream.addEventListener("open", () => {
    everything = true;
    gather();
  });
  stream.addEventListener("change", (event) => {
    changed.add(String(JSON.parse(event.data).source));
    gather();
  });
}

// Swaps every element that has an id; rows that are new are added, rows asked for and gone are removed.
function swap(html, askedFor) {
  const fresh = new DOMParser().parseFromString(html, "text/html");
  for (const part of fresh.querySelectorAll("body > [id]")) document.getElementById(part.id)?.replaceWith(part);
  const body = document.querySelector("table.grid tbody");
  const rows = [...fresh.querySelectorAll("tbody > tr")];
  const gone = new Set(askedFor.length ? askedFor.map((id) => `source-${id}`) : [...body.rows].map((row) => row.id));
  for (const row of rows) {
    gone.delete(row.id);
    const old = document.getElementById(row.id);
    if (old) old.replaceWith(row);
    else body.insertBefore(row, body.querySelector("tr.uploading"));
  }
  for (const id of gone) if (id) document.getElementById(id)?.remove();
}
