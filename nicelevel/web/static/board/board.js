// The board: choosing cells, taking in files, rendering. What is shown comes drawn from the server.

import Alpine from "../vendor/alpine/alpine-csp.js";
import { watchDrops } from "../drop.js";
import { askText } from "../ask.js";
import { leaveFor, loadAnew } from "../going.js";
import { changeJob } from "../job_changes.js";
import { page, say } from "../page.js";
import { getHtml, getJson, post, remove } from "../requests.js";
import { whatIsQueued } from "../queued.js";
import { undoKeys } from "../undo.js";
import { forgetUpload, takeFiles, watchUploads } from "../uploads/uploads.js";
import { Hearing, hearingKeys } from "../hear/hearing.js";
import { Joins } from "../hear/joins.js";
import { boardKeys } from "./keys.js";
import { keepTrue } from "./live.js";
import { rowOrder } from "./order.js";
import { watchPrice } from "./price.js";

const CLOSE_UP_HEIGHT = 247;
const SEEN_AFTER_MS = 400;
const BROKEN_OFF_MS = 600; // by then the worker of the uploads has said what is under way

// What was chosen, so that the same may be chosen again.
function chosenFiles(input) {
  const files = [...input.files];
  input.value = "";
  return files;
}

function board() {
  return {
    dropping: false,
    toldUploads: new Set(), // names that are or were on their way while the page is open: none of them broke off
    isEmpty: false,
    anchor: null, // id of the source that picking with Shift begins at
    chosen: null, // { source, destination } of the chosen cell
    loads: 0, // how often the close-up was asked for
    waiting: [], // what goes on once rows were swapped
    picked: [], // ids of sources that were picked to be worked on together

    init() {
      watchDrops((on) => (this.dropping = on), (files) => this.takeIn(files));
      this.hearing = new Hearing((atS) => this.showCursor(atS));
      boardKeys(this, hearingKeys(this.hearing));
      undoKeys(this.$root.dataset.undo);
      watchPrice(this.$refs.closeUp);
      this.order = rowOrder(this.$root.dataset.job, this.$root.dataset.order, this.$refs.body, this.$refs.head, this.$refs.filter, () => this.leaveHidden());
      keepTrue(this.$root.dataset, this.$refs.rows, () => this.afterChange());
      addEventListener("resize", () => this.showCloseUp());
      this.$refs.rows.addEventListener("scroll", () => this.tellSeen());
      new ResizeObserver(() => this.keepInView()).observe(this.$refs.rows);
      this.$refs.closeUp.addEventListener("click", (event) => this.onCloseUpClick(event));
      this.afterChange();
      watchUploads((told) => this.showUploads(told));
      setTimeout(() => this.showBrokenOff().catch((error) => say(error.message)), BROKEN_OFF_MS);
    },

    // Called whenever rows were swapped: marks the choice again and draws the close-up where its cell changed.
    afterChange() {
      this.order();
      const cells = this.cells();
      const here = this.picked.filter((id) => document.getElementById(`source-${id}`));
      if (here.length !== this.picked.length) this.picked = here;
      this.isEmpty = !this.$refs.body.querySelector("tr");
      if (!this.row() && cells.length) this.chooseAgain(cells[0]);
      else this.mark();
      this.focusFilled();
      for (const goOn of this.waiting.splice(0)) goOn();
    },

    // A row that was an outline when it was chosen had no cell to take the focus.
    focusFilled() {
      const held = document.activeElement?.closest("td.cell");
      if (held && held !== this.cell()) this.cell()?.focus({ preventScroll: true });
    },

    // The close-up takes room when it comes: who walks with keys still sees where.
    keepInView() {
      if (this.$refs.rows.contains(document.activeElement)) this.row()?.scrollIntoView({ block: "nearest" });
    },

    // What a filter hides is not worked on: then the first row that is shown is chosen.
    leaveHidden() {
      const shown = this.shownRows();
      if (this.row()?.hidden && shown.length) this.choosePlace(shown[0], this.chosen.destination, false);
      this.picked = this.picked.filter((id) => !document.getElementById(`source-${id}`)?.hidden);
      this.mark();
    },

    // The row that the address names, else the one that was chosen last; also where it is an outline still.
    chooseAgain(first) {
      const last = JSON.parse(sessionStorage.getItem(this.placeKey) ?? "null");
      const row = document.getElementById(location.hash.slice(1)) ?? document.getElementById(`source-${last?.source}`);
      const places = this.places();
      const destination = places.includes(last?.destination) ? last.destination : first.dataset.destination;
      this.choosePlace(row?.dataset.source ? row : first.closest("tr"), destination);
    },

    get placeKey() {
      return `place on board ${this.$root.dataset.job}`;
    },

    places() {
      return [...this.$refs.head.querySelectorAll("th.dest form")].map((form) => form.dataset.destination);
    },

    cells() {
      return [...this.$refs.body.querySelectorAll("td.cell")];
    },

    cell() {
      return document.getElementById(this.cellId());
    },

    cellId() {
      return this.chosen ? `cell-${this.chosen.source}-${this.chosen.destination}` : "";
    },

    row() {
      return this.chosen && document.getElementById(`source-${this.chosen.source}`);
    },

    get hasPicked() {
      return this.picked.length > 0;
    },

    get pickedWords() {
      return `${this.picked.length} source${this.picked.length === 1 ? "" : "s"} picked`;
    },

    get tooFewForASet() {
      return this.picked.length < 2;
    },

    pick(row = this.row()) {
      if (!row) return;
      const id = row.dataset.source;
      this.anchor = id;
      this.picked = this.picked.includes(id) ? this.picked.filter((each) => each !== id) : [...this.picked, id];
      this.mark();
    },

    unpick() {
      this.picked = [];
      this.mark();
    },

    // All from the chosen row to the one that the walk reaches.
    pickOn(rows) {
      const from = this.row();
      this.walk(rows, 0);
      this.pickBetween(from, this.row());
    },

    pickAll() {
      this.picked = this.shownRows().map((row) => row.dataset.source);
      this.mark();
    },

    // Where a row was picked or chosen last: a press with Shift picks from there.
    anchorRow() {
      return document.getElementById(`source-${this.anchor}`) ?? this.row();
    },

    pickBetween(one, other) {
      const shown = this.shownRows();
      const [first, last] = [shown.indexOf(one), shown.indexOf(other)].sort((a, b) => a - b);
      const ids = shown.slice(Math.max(first, 0), last + 1).map((row) => row.dataset.source);
      this.picked = [...new Set([...this.picked, ...ids])];
      this.mark();
    },

    shownRows() {
      return [...this.$refs.body.querySelectorAll("tr[data-source]:not([hidden])")];
    },

    choose(event) {
      const removing = event.target.closest("button[data-remove]");
      if (removing) return this.remove(removing.dataset.remove);
      const again = event.target.closest("button[data-again]");
      if (again) return this.again(again.dataset.again);
      const pressed = event.target.closest("tr[data-source]");
      if (pressed && (event.ctrlKey || event.metaKey)) return this.pick(pressed);
      if (pressed && event.shiftKey) return this.pickBetween(this.anchorRow(), pressed);
      const cell = event.target.closest("td.cell") || this.cellOfRow(event.target.closest("tr"));
      return cell && this.chooseCell(cell);
    },

    // A click beside the cells keeps the column.
    cellOfRow(row) {
      if (!row?.dataset.source) return null;
      return row.querySelector(`[data-destination="${this.chosen?.destination}"]`) || row.querySelector("td.cell");
    },

    chooseCell(cell) {
      this.choosePlace(cell.closest("tr"), cell.dataset.destination);
    },

    // A row that is still an outline is chosen too: its cell comes when it is filled.
    choosePlace(row, destination, takesFocus = true) {
      this.chosen = { source: row.dataset.source, destination };
      this.anchor = row.dataset.source;
      sessionStorage.setItem(this.placeKey, JSON.stringify(this.chosen));
      this.mark();
      if (takesFocus) this.cell()?.focus({ preventScroll: true });
      (this.cell() || row).scrollIntoView({ block: "nearest", inline: "nearest" });
    },

    mark() {
      const cell = this.cell();
      for (const old of this.$refs.body.querySelectorAll(".cur, .sel")) old.classList.remove("cur", "sel");
      for (const old of this.$refs.body.querySelectorAll("td[tabindex='0']")) old.tabIndex = -1;
      cell?.classList.add("cur");
      if (cell) cell.tabIndex = 0;
      this.row()?.classList.add("sel");
      for (const row of this.$refs.body.rows) {
        const isPicked = this.picked.includes(row.dataset.source);
        row.classList.toggle("picked", isPicked);
        row.setAttribute("aria-selected", String(isPicked));
      }
      const { closeUp, state, value, own } = cell?.dataset ?? {};
      const steps = this.row()?.querySelector(".prepared")?.title; // other steps may come to the same state and value
      const shown = cell ? [closeUp, state, value, own, this.row().dataset.sum, this.row().dataset.versions, steps].join(" ") : "";
      if (shown !== this.shown) {
        this.shown = shown;
        this.showCloseUp();
      }
    },

    showCloseUp() {
      this.loading = this.loadCloseUp();
      return this.loading;
    },

    // What a key is to press in the close-up: of the cell that was chosen then, however fast somebody walks and presses.
    async ofCloseUp(selector) {
      const pressedAt = this.cellId();
      while (this.row() && "outline" in this.row().dataset) await new Promise((resolve) => this.waiting.push(resolve));
      await this.loading;
      return this.cellId() === pressedAt ? this.$refs.closeUp.querySelector(selector) : null;
    },

    // What was asked for earlier and comes later is older than what is shown.
    async loadCloseUp() {
      const cell = this.cell(), number = ++this.loads;
      if (this.hearing.root?.dataset.source !== this.chosen?.source) this.hearing.expect(this.chosen?.source);
      if (!cell) {
        this.hearing.takeOver(null);
        return this.$refs.closeUp.replaceChildren();
      }
      const width = Math.max(300, this.$root.clientWidth - 341);
      try {
        const html = await getHtml(`${cell.dataset.closeUp}?width=${width}&height=${CLOSE_UP_HEIGHT}`);
        if (number !== this.loads || cell.id !== this.cell()?.id) return;
        this.$refs.closeUp.innerHTML = html;
        this.hearing.load(this.$refs.closeUp.querySelector("[data-hear-root]"));
        await this.showPrice();
      } catch (error) {
        this.hearing.forget();
        say(error.message);
      }
    },

    // The place of the sound on the drawing of the close-up.
    showCursor(atS) {
      const drawn = this.$refs.closeUp.querySelector("[data-over-time]");
      if (!drawn) return;
      const { left, right, seconds } = drawn.dataset;
      const x = Number(left) + (Number(right) - Number(left)) * Math.min(1, atS / Number(seconds));
      drawn.querySelector(".cursor").setAttribute("transform", `translate(${x.toFixed(1)} 0)`);
    },

    hearFrom(event) {
      const drawn = event.target.closest("[data-over-time]");
      if (!drawn) return;
      const { left, right, seconds } = drawn.dataset;
      const share = (event.clientX - drawn.getBoundingClientRect().left - Number(left)) / (Number(right) - Number(left));
      this.hearing.seek(Math.min(Math.max(0, share), 1) * Number(seconds));
    },

    async showPrice() {
      const place = this.$refs.closeUp.querySelector("[data-price]");
      if (place) place.innerHTML = await getHtml(place.dataset.price);
    },

    onCloseUpClick(event) {
      this.hearFrom(event);
      const removing = event.target.closest("[data-remove]");
      if (removing) this.remove(removing.dataset.remove);
      const again = event.target.closest("[data-again]");
      if (again) this.again(again.dataset.again);
      if (event.target.closest("[data-render-one]")) this.renderOne();
      if (event.target.closest("[data-hear-joins]")) this.hearJoins();
      if (event.target.closest("[data-rename]")) this.rename();
      const moving = event.target.closest("[data-move]");
      if (moving) this.move(moving.dataset.move === "up");
      if (event.target.closest("[data-link]")) this.linkSet();
      const replacing = event.target.closest("[data-replace]");
      if (replacing) this.chooseReplacement(replacing.dataset.replace);
      const mending = event.target.closest("[data-mend]");
      if (mending) this.mend(mending.dataset.mend);
      const preparing = event.target.closest("[data-prepare]");
      if (preparing) this.prepare(preparing.dataset.prepare);
      const counting = event.target.closest("[data-count]");
      if (counting) this.countVersion(counting.dataset.count);
      const measure = event.target.closest("[data-measure]")?.dataset.measure;
      if (measure) this.match(event.target.closest("[data-match]"), measure);
    },

    // A question over the rows: the answer is sent, what follows from it comes with the changes.
    async answer(event) {
      const button = event.target.closest("[data-answer]");
      if (!button) return;
      const members = button.dataset.members.split(" ").filter(Boolean);
      try {
        await post(button.dataset.answer, members.map((id) => ["member", id]));
      } catch (error) {
        say(error.message);
      }
    },

    // Links what the server proposes as a set, or ends the set.
    async linkSet() {
      const button = await this.ofCloseUp("[data-link]");
      if (!button) return say("Nothing here looks like a set: equal lengths, and names that go on where another ends.");
      const fields = new URLSearchParams((button.dataset.members || "").split(" ").filter(Boolean).map((id) => ["member", id]));
      try {
        await post(button.dataset.link, fields);
        await this.showCloseUp();
      } catch (error) {
        say(error.message);
      }
    },

    // A recipe for the source of the choice, or for all that are picked; an empty one leaves them as they came.
    async prepare(recipe) {
      const sources = this.hasPicked ? this.picked : [this.chosen.source];
      await this.ask(this.$root.dataset.prepareAt, [["recipe", recipe], ...sources.map((id) => ["source", id])]);
    },

    // What is noted of them, all of it or what has one code.
    async mend(code = "") {
      const sources = this.hasPicked && !code ? this.picked : [this.chosen.source];
      const notes = code ? [["note", code]] : [];
      const answer = await this.ask(this.$root.dataset.mendAt, [...notes, ...sources.map((id) => ["source", id])]);
      if (answer && !answer.mended) say("Nothing is noted that a step could mend.");
    },

    prepareBy(event) {
      const button = event.target.closest("button");
      if (!button) return;
      button.closest("details").open = false;
      if ("stepByStep" in button.dataset) this.openPrepare();
      else if ("mendAll" in button.dataset) this.mend();
      else this.prepare(button.dataset.prepare);
    },

    async ask(address, fields) {
      try {
        const answer = await post(address, fields);
        this.shown = null; // what is shown now may be of a moment in between: the next rows that come draw it again
        await this.showCloseUp();
        return answer;
      } catch (error) {
        say(error.message);
      }
    },

    async match(list, measure) {
      const limiter = list.querySelector("[data-may-limit]").checked ? { limiter: "1" } : {};
      try {
        const { board } = await post(list.dataset.match, { measure, ...limiter });
        location.assign(board);
        location.reload(); // the address may be that of this page
      } catch (error) {
        say(error.message);
      }
    },

    walk(rows, columns) {
      const row = this.row();
      if (!row) return;
      const all = this.shownRows().filter((each) => "outline" in each.dataset || each.querySelector("td.cell"));
      const next = all[Math.min(Math.max(all.indexOf(row) + rows, 0), all.length - 1)];
      const places = this.places();
      const column = places.indexOf(this.chosen.destination) + columns;
      this.choosePlace(next, places[Math.min(Math.max(column, 0), places.length - 1)]);
    },

    // The chosen cell, or the chosen column of all sources that are picked.
    renderOne() {
      const { source, destination } = this.chosen;
      const sources = this.hasPicked ? this.picked : [source];
      const fields = [["destination", destination], ...sources.map((id) => ["source", id])];
      this.render(fields, sources.length > 1 ? "None of these can be rendered there." : "This one cannot be rendered: the close-up says why.");
    },

    renderAll() {
      this.render(this.picked.map((id) => ["source", id]), "Nothing is left to render.");
    },

    setByLoudest() {
      this.makeSet("loudest", "One gain, from the loudest of them.");
    },

    setBySum() {
      this.makeSet("sum", "Their sum is being made; then they take its gain.");
    },

    // One source of what is picked, or of what is asked about first.
    async joinSides() {
      const asked = document.querySelector("#questions [data-key='I']");
      if (this.picked.length < 2) return asked ? asked.click() : say("Pick two sources of one channel with M, or name them like sides of one.");
      try {
        const { board } = await post(this.$root.dataset.sides, this.picked.map((id) => ["member", id]));
        this.unpick();
        say("They are one source now; Z takes that back.");
        location.hash = new URL(board, location.href).hash;
      } catch (error) {
        say(error.message);
      }
    },

    async makeSet(by, done) {
      try {
        await post(this.$root.dataset.sets, [["by", by], ...this.picked.map((id) => ["member", id])]);
        say(done);
        this.unpick();
      } catch (error) {
        say(error.message);
      }
    },

    async render(fields, nothing) {
      try {
        const told = await post(this.$root.dataset.render, fields);
        this.tellSeen();
        say(whatIsQueued(told, nothing));
      } catch (error) {
        say(error.message);
      }
    },

    // What is on screen is rendered first: told when something was queued, and once a scroll has come to rest.
    tellSeen() {
      clearTimeout(this.telling);
      const { $root: root, $refs: refs } = this;
      this.telling = setTimeout(async () => {
        if (!root?.querySelector("[data-unfinished]")) return;
        const { top, bottom } = refs.rows.getBoundingClientRect();
        const isSeen = (box) => box.bottom > top && box.top < bottom;
        const seen = this.shownRows().filter((row) => isSeen(row.getBoundingClientRect()));
        try {
          await post(root.dataset.seen, seen.map((row) => ["source", row.dataset.source]));
        } catch (error) {
          say(error.message);
        }
      }, SEEN_AFTER_MS);
    },

    async stopAll() {
      try {
        const { stopped } = await post(this.$root.dataset.stop);
        say(stopped ? `${stopped} stopped.` : "Nothing was being rendered.");
      } catch (error) {
        say(error.message);
      }
    },

    async again(address) {
      try {
        const { queued } = await post(address);
        say(queued ? "It is tried again." : "Nothing of it had failed.");
      } catch (error) {
        say(error.message);
      }
    },

    async countVersion(address) {
      address ??= (await this.ofCloseUp("[data-count]"))?.dataset.count;
      if (!address) return say("This title has no other version here, or this one counts already.");
      try {
        await post(address);
      } catch (error) {
        say(error.message);
      }
    },

    async removeDestination(event) {
      event.preventDefault();
      try {
        await post(event.target.action);
        loadAnew();
      } catch (error) {
        say(error.message);
      }
    },

    remove(source) {
      return this.takeOut([source]);
    },

    removeChosen() {
      return this.takeOut(this.hasPicked ? this.picked : [this.chosen?.source]);
    },

    async takeOut(ids) {
      const here = ids.filter((id) => document.getElementById(`source-${id}`));
      if (!here.length) return;
      try {
        await post(this.$root.dataset.takeOut, here.map((id) => ["source", id]));
        say(`${here.length === 1 ? "One source" : `${here.length} sources`} taken out, with what was made of it. Z takes that back.`);
      } catch (error) {
        say(error.message);
      }
    },

    async rename() {
      const row = this.row();
      if (!row) return;
      const title = await askText("Name of the source; files that were written keep theirs", row.querySelector("td.name b").textContent);
      if (title !== null) await this.send(`/sources/${row.dataset.source}/name`, { title });
    },

    async move(up) {
      if (this.row()) await this.send(`/sources/${this.chosen.source}/move`, up ? { up: "1" } : {});
    },

    async send(address, fields) {
      try {
        return await post(address, fields);
      } catch (error) {
        say(error.message);
      }
    },

    // What concerns the job as a whole, from the list beside its title.
    async changeJob(event) {
      try {
        const done = await changeJob(event);
        if (done === "delete") leaveFor("/");
        else if (done) loadAnew();
      } catch (error) {
        say(error.message);
      }
    },

    // The joins of what is picked, else of all rows that are shown and count.
    async hearJoins() {
      if (this.joins) return this.joins.stop();
      const rows = this.shownRows().filter((row) => this.picked.length < 2 || this.picked.includes(row.dataset.source));
      const fields = new URLSearchParams(rows.filter((row) => !row.classList.contains("older")).map((row) => ["source", row.dataset.source]));
      this.hearing.leave();
      try {
        const list = await getJson(`${this.$root.dataset.joins.replace(/0$/, this.chosen.destination)}?${fields}`);
        this.joins = new Joins(list, (words) => (words ? say(`${words}. J stops.`) : (this.joins = null)), say);
        await this.joins.play();
      } catch (error) {
        say(error.message);
      }
    },

    // A page about the chosen source; where it has none yet, why.
    async open(selector) {
      const link = await this.ofCloseUp(selector);
      if (link) return leaveFor(link.href);
      if (this.row()?.dataset.state !== "measured") say("Nothing is measured here yet; then there is something to open.");
    },

    // Of those that are picked the first, the others with it.
    openPrepare() {
      return this.picked.length > 1 ? leaveFor(this.prepareAll()) : this.open("[data-open-prepare]");
    },

    prepareAll() {
      const [first, ...others] = this.picked;
      return `${this.$root.dataset.prepareOne.replace("/0/", `/${first}/`)}?${new URLSearchParams(others.map((id) => ["with", id]))}`;
    },

    startFilter() {
      this.$refs.filter.focus();
      this.$refs.filter.select();
    },

    openSpread() {
      leaveFor(this.$root.querySelector("[data-spread]").href);
    },

    async download() {
      const link = await this.ofCloseUp("[data-download]");
      if (link) location.assign(link.href);
      else say("There is no proved deliverable in this cell yet.");
    },

    async openProof() {
      const link = await this.ofCloseUp("[data-proof]");
      if (link) leaveFor(link.href);
      else say("There is no written file in this cell yet.");
    },

    openHandover() {
      leaveFor(document.querySelector("[data-handover]").href);
    },

    downloadPackage() {
      if (document.querySelector("#summary .sign.proved")) location.assign(this.$root.dataset.package);
      else say("Nothing is proved yet, so there is no package.");
    },

    chooseFiles() {
      this.$refs.files.click();
    },

    takeChosen() {
      this.takeIn(chosenFiles(this.$refs.files));
    },

    chooseReplacement(source) {
      this.replaced = source;
      this.$refs.replacement.click();
    },

    takeReplacement() {
      this.takeIn(chosenFiles(this.$refs.replacement), this.replaced);
    },

    takeIn(files, replaces) {
      takeFiles(this.$root.dataset.job, this.$root.dataset.upload, files, replaces);
    },

    // One row for each file on its way to this job, also of other pages; and for what broke off before.
    showUploads(told) {
      const here = told.filter((each) => each.job === this.$root.dataset.job);
      for (const each of here) this.toldUploads.add(each.name);
      const known = new Set(here.map((each) => `upload-${each.id}`));
      for (const row of this.$refs.body.querySelectorAll("tr.uploading[id]")) if (!known.has(row.id)) row.remove();
      for (const each of here) this.showUpload(each);
      for (const row of this.$refs.body.querySelectorAll("tr.uploading[data-left]")) {
        if (here.some((each) => each.name === row.dataset.left)) row.remove();
      }
      if (here.length) this.isEmpty = false;
    },

    showUpload({ id, name, size, sent, state, message }) {
      const row = document.getElementById(`upload-${id}`) ?? this.uploadRow(name, size, () => forgetUpload(id));
      row.id = `upload-${id}`;
      const share = size ? sent / size : 1;
      row.querySelector("progress").value = share;
      row.querySelector(".going .fig").textContent = `${Math.floor(100 * share)} %`;
      const word = row.querySelector("em");
      word.classList.toggle("bad", state === "failed");
      word.textContent = state === "failed" ? `▮ ${message}` : state;
    },

    uploadRow(name, size, forget) {
      const row = this.$refs.uploadRow.content.cloneNode(true).firstElementChild;
      row.querySelector("b").textContent = name;
      row.querySelector("small").textContent = `${(size / 1e6).toFixed(1)} MB`;
      row.querySelector("[data-forget]").addEventListener("click", forget);
      this.$refs.body.append(row);
      return row;
    },

    async showBrokenOff() {
      const { uploads } = await getJson(this.$root.dataset.upload);
      for (const { address, name, size_bytes, done_bytes } of uploads.filter((each) => !this.toldUploads.has(each.name))) {
        const row = this.uploadRow(name, size_bytes, async () => {
          await remove(address);
          row.remove();
        });
        row.dataset.left = name;
        row.querySelector("progress").value = done_bytes / size_bytes;
        row.querySelector(".going .fig").textContent = `${Math.floor((100 * done_bytes) / size_bytes)} %`;
        row.querySelector("em").textContent = "broke off: let the same file go here again and it goes on";
        this.isEmpty = false;
      }
    },
  };
}

Alpine.data("page", page);
Alpine.data("board", board);
Alpine.start();
