// Keeps the board true: the server says what changed, the parts that changed and are looked at are fetched and swapped.
// A row far from the view is an outline, or marked as stale: it is fetched when it comes near.

import { watchChanges } from "../changes.js";
import { say } from "../page.js";
import { keepingFocus, parsed, swapPart, swapParts } from "../parts.js";
import { getCounted, getHtml } from "../requests.js";

const GATHER_MS = 120;
const AGAIN_MS = 2000;
const NEAR = "900px 0px";
const ROWS_AT_ONCE = 12;
const BAR_MS = 250;

export function keepTrue(data, container, afterChange) {
  const body = container.querySelector("tbody");
  const changed = new Set();
  const columns = new Set();
  const near = new Set();
  let timer = null;
  let everything = false;
  let asking = false;
  let barTimer = null;
  let barAsking = false;

  const rows = () => [...body.querySelectorAll("tr[data-source]")];
  const isWhole = (row) => !("outline" in row.dataset);
  const asked = (ids) => ids.map((id) => `source=${id}`).join("&");

  const watcher = new IntersectionObserver(
    (entries) => {
      for (const { target, isIntersecting } of entries) near[isIntersecting ? "add" : "delete"](target.dataset.source);
      if (near.size) gather(0);
    },
    { root: container, rootMargin: NEAR },
  );
  const watchUnfilled = () => {
    watcher.disconnect();
    for (const row of body.querySelectorAll("tr[data-outline], tr[data-stale]")) watcher.observe(row);
  };

  const refreshAll = async () => {
    everything = false;
    changed.clear();
    const kept = rows().filter(isWhole).map((row) => row.dataset.source).slice(0, 2 * ROWS_AT_ONCE);
    swap(await getHtml(`${data.parts}?others=1&${asked(kept)}`), new Set(rows().map((row) => row.id)));
  };

  // Only rows that are shown in whole, and new ones: the others are fetched when they come near.
  const refreshRows = async () => {
    const ids = [...changed].filter((id) => {
      const row = document.getElementById(`source-${id}`);
      return !row || isWhole(row);
    });
    // What changed far from the view is not fetched, but it counts.
    if (changed.size) gatherBar();
    changed.clear();
    const wanted = [...new Set([...ids, ...near])];
    const now = wanted.slice(0, ROWS_AT_ONCE);
    for (const id of wanted.slice(ROWS_AT_ONCE)) changed.add(id);
    near.clear();
    if (now.length) swap(await getHtml(`${data.parts}?${asked(now)}`), new Set(now.map((id) => `source-${id}`)));
  };

  const refreshColumn = async (destination) => {
    const { top, bottom } = container.getBoundingClientRect();
    const seen = [];
    for (const row of rows().filter(isWhole)) {
      const box = row.getBoundingClientRect();
      if (box.bottom >= top && box.top <= bottom) seen.push(row.dataset.source);
      else row.dataset.stale = "";
    }
    const address = data.column.replace(/0$/, destination);
    const fresh = parsed(await getHtml(`${address}?${asked(seen)}`));
    keepingFocus(() => {
      for (const part of fresh.querySelectorAll("th[id], td[id]")) swapPart(document.getElementById(part.id), part);
    });
  };

  // The bar counts over all rows, which may take longer than the rows in view: it waits for none and holds up none.
  const refreshBar = async () => {
    barTimer = null;
    barAsking = true;
    try {
      swapParts(parsed(await getCounted(data.bar)));
    } catch (error) {
      say(error.message);
    }
    barAsking = false;
  };
  const gatherBar = () => {
    clearTimeout(barTimer);
    barTimer = setTimeout(() => (barAsking ? gatherBar() : refreshBar()), BAR_MS);
  };

  const swap = (html, askedFor) => {
    const fresh = parsed(html);
    keepingFocus(() => {
      if (!swapParts(fresh)) gatherBar();
      swapRows(body, fresh, askedFor);
    });
  };

  // One question at a time: an older answer must never land on a newer one.
  const refresh = async () => {
    timer = null;
    asking = true;
    try {
      for (const destination of [...columns]) {
        columns.delete(destination);
        await refreshColumn(destination);
        gatherBar();
      }
      if (everything) await refreshAll();
      else if (changed.size || near.size) await refreshRows();
      watchUnfilled();
      afterChange();
    } catch (error) {
      everything = error.status !== 404; // what was asked for has not come, and may yet
      say(error.message);
    }
    asking = false;
    if (columns.size || near.size) gather(0);
    else if (everything || changed.size) gather(everything ? AGAIN_MS : GATHER_MS);
  };
  const gather = (wait_ms) => {
    if (!asking) timer ??= setTimeout(refresh, wait_ms);
  };

  addEventListener("swapped", afterChange);
  // Where something may have been missed the whole board is fetched.
  watchChanges((told, all) => {
    const here = told.filter((each) => String(each.job) === data.job);
    if (all) everything = true;
    for (const { source, destination } of here) {
      if (destination) columns.add(String(destination));
      else if (source) changed.add(String(source));
    }
    if (!all && !here.length) return;
    clearTimeout(timer);
    timer = null;
    gather(columns.size ? 0 : GATHER_MS);
  });
}

// Rows that are new are added, rows asked for and gone are removed; an outline never takes the place of a whole row.
function swapRows(body, fresh, askedFor) {
  const gone = new Set(askedFor);
  for (const row of fresh.querySelectorAll("tbody > tr")) {
    gone.delete(row.id);
    const old = document.getElementById(row.id);
    if (!old) body.insertBefore(row, body.querySelector("tr.uploading"));
    else if (!("outline" in row.dataset) || "outline" in old.dataset) swapPart(old, row);
    else old.dataset.stale = "";
  }
  for (const id of gone) document.getElementById(id)?.remove();
}
