// Asks the server what has changed, a few times a second while the page is looked at; one question at a time.
// Who watches gets the changes, or is told to fetch everything where some may have been missed.

const LOOKED_AT_MS = 350;
const HIDDEN_MS = 5000;
const AWAY_MS = 1000;
const NO_ANSWER = "Nice Level does not answer. Is it still running? This page goes on by itself when it does.";

const SIGNED_OUT = "You are signed out. Sign in again in another window, and this page goes on: nothing on it is lost.";

const watchers = [];
let version = "";
let timer = null;
let question = null; // what ends the one that is under way
let isSigningOut = false;
let trouble = "";

export function watchChanges(onChanges) {
  watchers.push(onChanges);
  if (version) onChanges([], true);
  if (watchers.length === 1) ask();
}

// Asks for what is to be drawn anew, a moment after it is told to, one question at a time: an older answer never lands on a
// newer one. What is told while a question is under way is asked once more.
export function oneAtATime(question, wait_ms) {
  let waiting = null, isAsking = false, isTold = false;
  const put = async () => {
    [waiting, isAsking, isTold] = [null, true, false];
    try {
      await question();
    } finally {
      isAsking = false;
      if (isTold) tell();
    }
  };
  const tell = () => {
    if (isAsking) isTold = true;
    else waiting ??= setTimeout(put, wait_ms);
  };
  return tell;
}

async function ask() {
  timer = null;
  question = new AbortController();
  let wait_ms = document.hidden ? HIDDEN_MS : LOOKED_AT_MS;
  try {
    const answer = await fetch(`/changes?since=${version}`, { headers: { Accept: "application/json" }, signal: question.signal });
    const told = await answer.json();
    if (answer.ok) {
      version = told.version;
      tellTrouble(told.trouble);
      if (told.everything || told.changes.length) for (const each of watchers) each(told.changes, told.everything);
    } else {
      tellTrouble(answer.status === 401 ? SIGNED_OUT : told.error.message);
      wait_ms = AWAY_MS;
    }
  } catch {
    if (isSigningOut) return;
    tellTrouble(NO_ANSWER);
    wait_ms = AWAY_MS;
  }
  timer = setTimeout(ask, wait_ms);
}

function tellTrouble(sentence) {
  if (sentence === trouble) return;
  trouble = sentence;
  dispatchEvent(new CustomEvent("trouble", { detail: sentence }));
}

function askNow() {
  if (document.hidden || !timer) return;
  clearTimeout(timer);
  ask();
}

// What one page of this browser has changed is asked for at once, by itself and by the others.
const pages = new BroadcastChannel("nice-level-changes");
pages.onmessage = askNow;

export function tellChanged() {
  pages.postMessage("");
  askNow();
}

document.addEventListener("visibilitychange", askNow);

// Who signs out is not told that they are signed out, by the answer to a question that was asked just before.
addEventListener("submit", ({ target }) => {
  if (!target.matches("[data-signs-out]")) return;
  isSigningOut = true;
  clearTimeout(timer);
  timer = null;
  question?.abort();
});
addEventListener("pageshow", ({ persisted }) => {
  if (!persisted || !isSigningOut) return; // come back to by the browser's own key
  isSigningOut = false;
  ask();
});
