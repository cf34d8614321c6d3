// The order of the rows and which of them are shown: by what the server wrote into them.

export function rowOrder(body, head, filter) {
  const order = { key: null, down: true };

  const valueOf = (row) => {
    if (order.key === "title") return row.querySelector("b")?.textContent.toLowerCase() ?? "";
    const cell = row.querySelector(`[data-value-of="${order.key}"]`);
    return cell?.dataset.value ? Number(cell.dataset.value) : null;
  };

  // What has no value stands last, whichever way the others go.
  const compare = (one, other) => {
    const [a, b] = [valueOf(one), valueOf(other)];
    if (a === null || b === null) return (a === null) - (b === null);
    return (a < b ? -1 : a > b ? 1 : 0) * (order.down ? -1 : 1);
  };

  const said = (row) => {
    const states = [...row.querySelectorAll("td.cell")].map((cell) => cell.dataset.state.replace("_", " "));
    return `${row.textContent} ${states.join(" ")}`.toLowerCase();
  };

  const apply = () => {
    const rows = [...body.querySelectorAll("tr[data-source]")];
    const words = filter.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const row of rows) row.hidden = words.length > 0 && !words.every((word) => said(row).includes(word));
    if (order.key === null) rows.sort((one, other) => (one.dataset.place < other.dataset.place ? -1 : 1));
    else rows.sort(compare);
    const now = [...body.querySelectorAll("tr[data-source]")];
    if (rows.some((row, at) => row !== now[at])) body.prepend(...rows);
    for (const button of head.querySelectorAll("[data-sort]")) {
      const isThis = button.dataset.sort === order.key;
      button.setAttribute("aria-sort", isThis ? (order.down ? "descending" : "ascending") : "none");
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
  filter.addEventListener("input", apply);
  filter.addEventListener("keydown", (event) => {
    if (event.key !== "Escape" && event.key !== "Enter") return;
    if (event.key === "Escape") filter.value = "";
    apply();
    filter.blur();
  });
  return apply;
}
