// The order of the rows and which of them are shown. What needs figures or states is asked of the server.

import { say } from "../page.js";
import { getJson } from "../requests.js";

const TYPING_MS = 60;

export function rowOrder(job, address, body, head, filter, afterOrder) {
  const kept = `order of board ${job}`;
  const { words = "", ...last } = JSON.parse(sessionStorage.getItem(kept) ?? "{}");
  const order = { key: null, down: true, ...last };
  filter.value = words;
  let timer = null;
  let asked = 0;

  const rows = () => [...body.querySelectorAll("tr[data-source]")];

  const place = (wanted) => {
    const now = rows();
    if (wanted.some((row, at) => row !== now[at])) body.prepend(...wanted);
  };

  const asTakenIn = () => {
    for (const row of rows()) row.hidden = false;
    place(rows().sort((one, other) => (one.dataset.place < other.dataset.place ? -1 : 1)));
  };

  const asAnswered = async () => {
    const number = ++asked;
    const fields = new URLSearchParams({ by: order.key ?? "place", words: filter.value });
    if (order.down) fields.set("down", "1");
    const { sources } = await getJson(`${address}?${fields}`);
    if (number !== asked) return;
    const at = new Map(sources.map((id, number) => [String(id), number]));
    for (const row of rows()) row.hidden = !at.has(row.dataset.source);
    place(rows().sort((one, other) => (at.get(one.dataset.source) ?? Infinity) - (at.get(other.dataset.source) ?? Infinity)));
  };

  const apply = async () => {
    for (const button of head.querySelectorAll("[data-sort]")) {
      const isThis = button.dataset.sort === order.key;
      button.closest("th").setAttribute("aria-sort", isThis ? (order.down ? "descending" : "ascending") : "none");
    }
    sessionStorage.setItem(kept, JSON.stringify({ ...order, words: filter.value }));
    if (order.key === null && !filter.value.trim()) {
      asked += 1;
      return asTakenIn();
    }
    try {
      await asAnswered();
      afterOrder();
    } catch (error) {
      say(error.message);
    }
  };

  // Down, up, and as taken in.
  const turn = (key) => {
    if (order.key !== key) Object.assign(order, { key, down: key !== "title" });
    else if (order.down === (key !== "title")) order.down = !order.down;
    else order.key = null;
    apply();
  };

  head.addEventListener("click", (event) => {
    const key = event.target.closest("[data-sort]")?.dataset.sort;
    if (key) turn(key);
  });
  filter.addEventListener("input", () => {
    clearTimeout(timer);
    timer = setTimeout(apply, TYPING_MS);
  });
  filter.addEventListener("keydown", (event) => {
    if (event.key !== "Escape" && event.key !== "Enter") return;
    if (event.key === "Escape") filter.value = "";
    apply();
    filter.blur();
  });
  return apply;
}
