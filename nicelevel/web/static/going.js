// Leaving a page, and loading it anew: who left by a key is not called back by a change that ends only then.

let isLeaving = false;
addEventListener("pageshow", () => (isLeaving = false)); // back again, as it was left

export function leaveFor(address) {
  isLeaving = true;
  location.assign(address);
}

// words: what the page says once it is there again.
export function loadAnew(words = "") {
  if (isLeaving) return;
  if (words) sessionStorage.setItem("say", words);
  location.reload();
}
