// Keeps the picture and the list in step: pointing at one shows the place in the other. Rows can be
// selected, filtered, and changed together.
import { board, rowAt } from "./board.js";

const list = document.getElementById("list");
const here = document.getElementById("here");
const pointed = document.getElementById("pointed");
const bulk = document.getElementById("bulk");
const ROWS = "tbody[data-path]";
const rows = () => [...list.querySelectorAll(ROWS)].filter((row) => !row.hidden);
const rowOf = (element) => element.closest?.(ROWS) ?? null;
const selected = new Set();
let current = null;

const show = (row) => {
  const [x, y, width, height] = (row?.dataset.box ?? "0 0 0 0").split(" ");
  for (const [name, value] of Object.entries({ x, y, width, height })) here.setAttribute(name, value);
  here.classList.toggle("here-line-idle", Boolean(row?.classList.contains("idle")));
};
const showCurrent = () => show(document.getElementById(current));

const mark = () => {
  for (const row of list.querySelectorAll(ROWS)) {
    row.classList.toggle("here", row.id === current);
    row.classList.toggle("selected", selected.has(row.id));
  }
  if (!bulk) return;
  bulk.hidden = selected.size < 2;
  document.getElementById("bulk-count").textContent = `${selected.size} rows`;
};

const go = (row, scroll) => {
  if (!row) return;
  current = row.id;
  show(row);
  mark();
  pointed.textContent = row.dataset.said;
  if (scroll) row.scrollIntoView({ block: "nearest" });
};

const only = (row) => {
  selected.clear();
  if (row) selected.add(row.id);
};

const through = (from, to) => {
  const all = rows();
  const ends = [from, to].map((id) => all.findIndex((row) => row.id === id)).sort((a, b) => a - b);
  for (const row of all.slice(Math.max(0, ends[0]), ends[1] + 1)) selected.add(row.id);
};

list.addEventListener("pointerover", (event) => show(rowOf(event.target)));
list.addEventListener("pointerleave", showCurrent);
list.addEventListener("focusin", (event) => go(rowOf(event.target), false));
list.addEventListener("click", (event) => {
  const row = rowOf(event.target);
  if (!row) return;
  if (event.shiftKey && current) through(current, row.id);
  else if (event.ctrlKey || event.metaKey)
    selected.has(row.id) ? selected.delete(row.id) : selected.add(row.id);
  else if (!event.target.closest("input, select, button, summary, label")) only(row);
  go(row, false);
});

board.addEventListener("pointermove", (event) => show(rowAt(event) ?? document.getElementById(current)));
board.addEventListener("pointerleave", showCurrent);
board.addEventListener("click", (event) => {
  if (event.target.closest("[data-slice], [data-axis], .handle") || event.shiftKey) return;
  const row = rowAt(event);
  if (!row) return;
  row.hidden = false;
  only(row);
  go(row, true);
  row.querySelector(".tick")?.focus({ preventScroll: true });
});

const step = (by, extend) => {
  const all = rows();
  const place = all.findIndex((row) => row.id === current);
  const row = all[Math.max(0, Math.min(all.length - 1, place + by))];
  if (!row) return;
  if (extend) {
    if (current) selected.add(current);
    selected.add(row.id);
  } else only(row);
  go(row, true);
  row.querySelector(".tick")?.focus({ preventScroll: true });
};

// One request for all selected rows: parts and slices each in their own words.
const post = (values) =>
  window.htmx.ajax("POST", bulk.dataset.action, { source: bulk, swap: "none", values });

const change = (values) => {
  const chosen = rows().filter((row) => selected.has(row.id));
  const parts = chosen.filter((row) => row.matches(".part")).map((row) => row.dataset.path);
  const slices = chosen.filter((row) => row.matches(".slice")).map((row) => row.dataset.slice);
  const slicesDo = { tick: "slice-tick", recipe: "slice-recipe" }[values.do];
  if (parts.length) post({ ...values, part: parts });
  if (slices.length && slicesDo) post({ ...values, do: slicesDo, slice: slices });
};

bulk?.addEventListener("click", (event) => {
  const button = event.target.closest("button[data-do]");
  if (!button) return;
  if (button.dataset.do === "none") selected.clear();
  else change({ do: button.dataset.do, on: button.dataset.on ?? "" });
  mark();
});
document.getElementById("bulk-recipe")?.addEventListener("change", (event) => {
  if (event.target.value) change({ do: "recipe", recipe: event.target.value });
  event.target.value = "";
});
bulk?.addEventListener("submit", (event) => event.preventDefault());

const filter = document.getElementById("filter");
const state = document.getElementById("state");
const narrow = () => {
  const text = filter.value.trim().toLowerCase();
  let any = false;
  for (const row of list.querySelectorAll("tbody.part")) {
    const named = row.dataset.path.toLowerCase().includes(text);
    const stated = !state.value || row.dataset.state.includes(state.value);
    row.hidden = !(named && stated);
    any ||= !row.hidden;
  }
  document.getElementById("none-shown").hidden = any;
};
filter?.addEventListener("input", narrow);
state?.addEventListener("change", narrow);
document.getElementById("select-kind")?.addEventListener("change", (event) => {
  selected.clear();
  for (const row of rows()) if (row.dataset.kind === event.target.value) selected.add(row.id);
  event.target.value = "";
  mark();
});

document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  const target = event.target instanceof Element ? event.target : document.body;
  if (event.key === "Escape" && target.matches("input, select")) {
    const tick = rowOf(target)?.querySelector(".tick");
    if (tick) tick.focus();
    else target.blur();
    return;
  }
  if (target.matches("input:not([type=checkbox]), select, textarea, dialog *, [data-axis], [data-slice]:not(tbody)"))
    return;
  const row = document.getElementById(current);
  const key = event.key.toLowerCase();
  if (event.key === "ArrowDown") step(1, event.shiftKey);
  else if (event.key === "ArrowUp") step(-1, event.shiftKey);
  else if (key === "a") {
    for (const each of rows()) if (each.matches(".part")) selected.add(each.id);
    mark();
  } else if (event.key === "Escape") {
    selected.clear();
    mark();
  } else if (event.key === " " && selected.size > 1 && bulk) {
    const ticks = rows().filter((each) => selected.has(each.id));
    const all = ticks.every((each) => each.querySelector(".tick").checked);
    change({ do: "tick", on: all ? "" : "true" });
  } else if (event.key === " " && row && !target.matches("button, a, summary, input"))
    row.querySelector(".tick").click();
  else if (key === "n" && row) row.querySelector("[name=name]")?.select();
  else if (key === "c" && row) row.querySelector("select.field")?.focus();
  else return;
  event.preventDefault();
});

// What is unfolded stays so when its row or section is exchanged.
const unfolded = new Set();
const foldName = (fold) => {
  const row = rowOf(fold);
  return fold.id || `${row?.id} ${[...(row?.querySelectorAll("details") ?? [])].indexOf(fold)}`;
};
document.addEventListener(
  "toggle",
  (event) => {
    if (!event.target.isConnected) return;
    const name = foldName(event.target);
    event.target.open ? unfolded.add(name) : unfolded.delete(name);
  },
  true,
);
const unfold = () => {
  for (const fold of list.querySelectorAll("details"))
    if (unfolded.has(foldName(fold))) fold.open = true;
};

// After rows were exchanged, the place in the list and what is selected stay.
document.body.addEventListener("htmx:afterSettle", () => {
  unfold();
  mark();
  if (filter) narrow();
  showCurrent();
});

// Each change says which step of the plan it was drawn from: what has become something else since
// is not changed, and the server answers with what is there now (409).
const CHANGES = /\/(plan|undo|redo)$/;
document.body.addEventListener("htmx:configRequest", (event) => {
  if (CHANGES.test(event.detail.path))
    event.detail.parameters.step = document.getElementById("history").dataset.step;
});
document.body.addEventListener("htmx:beforeSwap", (event) => {
  if (event.detail.xhr.status === 409 && event.detail.xhr.responseText.includes("data-problem"))
    event.detail.shouldSwap = true;
});
