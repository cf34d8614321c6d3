// Every action of the board has a key.

import { onKeys } from "../page.js";

export function boardKeys(board, more) {
  const actions = {
    ...more,
    ArrowUp: (event) => (event.shiftKey ? board.pickOn(-1) : board.walk(-1, 0)),
    ArrowDown: (event) => (event.shiftKey ? board.pickOn(1) : board.walk(1, 0)),
    " ": () => (board.joins ? board.joins.stop() : more[" "]()),
    m: () => board.pick(),
    i: () => board.joinSides(),
    Escape: () => board.unpick(),
    ArrowLeft: () => board.walk(0, -1),
    ArrowRight: () => board.walk(0, 1),
    Home: () => board.walk(-Infinity, 0),
    End: () => board.walk(Infinity, 0),
    Enter: () => board.open("[data-open-reading]"),
    c: () => board.open("[data-compare]"),
    j: () => board.hearJoins(),
    s: () => board.openSpread(),
    f: () => board.startFilter(),
    n: () => board.mend(),
    l: () => board.linkSet(),
    v: () => board.countVersion(),
    r: () => board.renderOne(),
    R: () => board.renderAll(),
    d: () => board.download(),
    o: () => board.openProof(),
    h: () => board.openHandover(),
    p: () => board.openPrepare(),
    k: () => board.open("[data-open-channels]"),
    P: () => board.downloadPackage(),
    a: () => board.chooseFiles(),
    x: () => board.stopAll(),
    Delete: () => board.removeChosen(),
    F2: () => board.rename(),
  };
  onKeys(actions);
  addEventListener("keydown", (event) => {
    if (event.altKey && ["ArrowUp", "ArrowDown"].includes(event.key)) {
      event.preventDefault();
      return board.move(event.key === "ArrowUp");
    }
    if (event.key !== "a" || !(event.ctrlKey || event.metaKey) || event.target.closest("input, textarea, dialog")) return;
    event.preventDefault();
    board.pickAll();
  });
}
