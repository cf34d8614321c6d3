// Taking back the latest change, by Z or Ctrl+Z; with Shift doing it again.

import { loadAnew } from "./going.js";
import { isInField, say } from "./page.js";
import { post } from "./requests.js";

// afterwards(words): shows the page as it is now, and says what was done.
export function undoKeys(address, afterwards = loadAnew) {
  addEventListener("keydown", async (event) => {
    if (event.key.toLowerCase() !== "z" || event.altKey || isInField(event)) return;
    event.preventDefault();
    const again = event.shiftKey;
    try {
      const { undone } = await post(address, again ? { again: "1" } : {});
      const words = `${again ? "Done again" : "Taken back"}: ${undone}.`;
      if (!undone) return say(again ? "Nothing was taken back." : "There is nothing to take back.");
      afterwards(words);
    } catch (error) {
      say(error.message);
    }
  });
}
