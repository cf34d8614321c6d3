// Taking back the latest change, by Z or Ctrl+Z; with Shift doing it again.

import { loadAnew } from "./going.js";
import { isInField, say } from "./page.js";
import { post } from "./requests.js";

// afterwards(words): shows the page as it is now, and says what was done. inTurn(change): makes the change after those
// that were asked for before it.
export function undoKeys(address, afterwards = loadAnew, inTurn = (change) => change()) {
  async function takeBack(again) {
    try {
      const { undone } = await post(address, again ? { again: "1" } : {});
      const words = `${again ? "Done again" : "Taken back"}: ${undone}.`;
      if (!undone) return say(again ? "Nothing was taken back." : "There is nothing to take back.");
      await afterwards(words);
    } catch (error) {
      say(error.message);
    }
  }
  addEventListener("keydown", (event) => {
    if (event.key.toLowerCase() !== "z" || event.altKey || isInField(event)) return;
    event.preventDefault();
    inTurn(() => takeBack(event.shiftKey));
  });
}
