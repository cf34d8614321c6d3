// The list of jobs: a new one by form, or by dropping files anywhere.

import Alpine from "./vendor/alpine/alpine-csp.js";
import { watchDrops } from "./drop.js";
import { leaveFor, loadAnew } from "./going.js";
import { changeJob } from "./job_changes.js";
import { isTyping, page, say } from "./page.js";
import { keepingFocus, parsed, swapPart } from "./parts.js";
import { getCounted, post } from "./requests.js";
import { undoKeys } from "./undo.js";
import { takeFiles } from "./uploads/uploads.js";

const FILLED_AT_ONCE = 3;

function jobs() {
  return {
    dropping: false,

    init() {
      undoKeys(this.$root.dataset.undo);
      fillRows(this.$root);
      watchDrops((on) => (this.dropping = on), (files, where) => this.makeJobOf(files, this.isVoice(where)));
      addEventListener("keydown", (event) => {
        if (!["n", "v"].includes(event.key) || isTyping(event)) return;
        event.preventDefault();
        if (event.key === "n") this.$refs.title.focus();
        else this.chooseVoice();
      });
    },

    // What is done to a job, from the list of its row.
    async press(event) {
      try {
        if (await changeJob(event)) loadAnew();
      } catch (error) {
        say(error.message);
      }
    },

    async make(event) {
      event.preventDefault();
      this.$refs.due.removeAttribute("aria-invalid");
      try {
        const { board } = await post(this.$root.dataset.new, new FormData(event.target));
        leaveFor(board);
      } catch (error) {
        if (error.key === "due_on") this.$refs.due.setAttribute("aria-invalid", "true");
        say(error.message);
      }
    },

    pickDate() {
      this.$refs.picker.showPicker();
    },

    takeDate() {
      this.$refs.due.value = this.$refs.picker.value;
      this.$refs.due.removeAttribute("aria-invalid");
    },

    // Nothing brings back what is emptied: the second press does it.
    async emptyTrash(event) {
      const button = event.target;
      if (button.dataset.sure === undefined) {
        button.dataset.sure = "";
        button.textContent = "Press once more: nothing brings it back";
        return;
      }
      try {
        const { freed_bytes } = await post(button.dataset.empty);
        button.closest("p").remove();
        say(`Emptied; ${(freed_bytes / 1e6).toFixed(1)} MB of the disk are free again.`);
      } catch (error) {
        say(error.message);
      }
    },

    isVoice(where) {
      return Boolean(where?.closest?.("[data-voice-drop]"));
    },

    chooseVoice() {
      this.$refs.voices.click();
    },

    takeVoices({ target }) {
      const files = [...target.files];
      target.value = "";
      if (files.length) this.makeJobOf(files, true);
    },

    async makeJobOf(files, isVoice = false) {
      const title = files[0].name.replace(/\.[^.]*$/, "");
      try {
        const job = await post(isVoice ? this.$root.dataset.voice : this.$root.dataset.new, { title });
        takeFiles(job.id, job.upload, files);
        leaveFor(job.board);
      } catch (error) {
        say(error.message);
      }
    },
  };
}

// What the plans of a job say comes when its row does, a few at a time: a large job takes its time and holds up no other.
function fillRows(root) {
  const near = new Set();
  let filling = 0;
  const fill = async () => {
    if (filling === FILLED_AT_ONCE || !near.size) return;
    filling += 1;
    const [row] = near;
    near.delete(row);
    watcher.unobserve(row);
    try {
      const fresh = parsed(await getCounted(row.dataset.row)).querySelector("tr");
      keepingFocus(() => swapPart(row, fresh));
    } catch (error) {
      say(error.message);
    }
    filling -= 1;
    fill();
  };
  const watcher = new IntersectionObserver((entries) => {
    for (const { target, isIntersecting } of entries) near[isIntersecting ? "add" : "delete"](target);
    for (let free = filling; free < FILLED_AT_ONCE; free += 1) fill();
  }, { rootMargin: "400px 0px" });
  for (const row of root.querySelectorAll("tr[data-row]")) watcher.observe(row);
}

Alpine.data("page", page);
Alpine.data("jobs", jobs);
Alpine.start();
