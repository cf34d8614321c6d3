// What is done to a job as a whole, from the list of its changes: here and on the list of jobs.

import { askText } from "./ask.js";
import { post } from "./requests.js";

const ASKED = {
  name: ["Title of the job", "title"],
  due: ["Due on, as 2026-12-04; empty: not due", "due_on"],
};

// Which of them was done by a press; null where none was.
export async function changeJob(event) {
  const pressed = event.target.closest("[data-job-do]");
  if (!pressed) return null;
  const { jobDo, address, now } = pressed.dataset;
  const [label, field] = ASKED[jobDo] ?? [];
  const text = label ? await askText(label, now) : "";
  if (text === null) return null;
  await post(address, field ? { [field]: text } : {});
  return jobDo;
}
