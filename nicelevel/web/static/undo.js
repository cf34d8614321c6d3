// Taking back the latest change, by Z or Ctrl+Z; with Shift doing it again.

import { isInField, say } from "./page.js";
import { post } from "./requests.js";

// afterwards: loads the page anew, which says what was done.
export function undoKeys(address, afterwards) {
  addEventListener("keydown", async (event) => {
    if (event.key.toLowerCase() !== "z" || event.altKey || isInField(event)) return;
    event.preventDefault();
    const again = event.shiftKey;
    try {
      const { undone } = await post(address, again ? { again: "1" } : {});
      const words = `${again ? "Done again" : "Taken back"}: ${undone}.`;
      if (!undone) return say(again ? "Nothing was taken back." : "There is nothing to take back.");
      sessionStorage.setItem("say", words);
      afterwards();
    } catch (error) {
      say(error.message);
    }
  });
}
