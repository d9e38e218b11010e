// Choosing sources on the desk: by click, with Shift, by keys, or all that match. What is chosen
// stays chosen while rows come, go and change; the foot tells its sums.
const chosen = new Set();
let matching = false;
let last = "";

const desk = () => document.getElementById("desk");
const rows = () => [...document.querySelectorAll("#desk .desk-row")];
const tickOf = (row) => row.querySelector("input[name=source]");
const rowOf = (element) => element?.closest?.(".desk-row") ?? null;
const counted = (number, one) => `${number.toLocaleString("en")} ${one}${number === 1 ? "" : "s"}`;

const weight = (bytes) => {
  const rounded = (value, digits) =>
    value.toLocaleString("en", { minimumFractionDigits: digits, maximumFractionDigits: digits });
  if (bytes < 1e6) return `${rounded(bytes / 1e3, bytes < 1e5 ? 1 : 0)} kB`;
  if (bytes >= 1e10) return `${rounded(bytes / 1e9, 1)} GB`;
  return `${rounded(bytes / 1e6, bytes < 1e7 ? 2 : 1)} MB`;
};

const SUMMED = ["cuts", "files", "in", "out", "served", "baseline", "known", "estimating", "changed"];
const sumOf = (elements) => {
  const sum = Object.fromEntries(SUMMED.map((name) => [name, 0]));
  for (const element of elements) for (const name of SUMMED) sum[name] += Number(element.dataset[name]);
  return sum;
};

const tell = () => {
  const foot = document.getElementById("desk-sum");
  if (!foot) return;
  const some = !matching && chosen.size > 0;
  const sum = sumOf(some ? rows().filter((row) => chosen.has(row.dataset.id)) : [foot]);
  const count = some ? chosen.size : Number(foot.dataset.sources);
  const which = some || matching ? " selected" : "";
  document.getElementById("sum-words").innerHTML =
    `<b>${counted(count, "source")}${which}</b> · ${counted(sum.cuts, "cut")} · ${counted(sum.files, "file")}`;
  const saved = sum.baseline ? ` · ${Math.round(100 * Math.max(0, 1 - sum.served / sum.baseline))} % saved` : "";
  const rest = sum.estimating ? ` so far, ${counted(sum.estimating, "source")} to estimate` : saved;
  document.getElementById("sum-weights").innerHTML =
    `${weight(sum.in)} in → ${sum.known < count ? "≈ " : ""}<b>${weight(sum.out)}</b> out${rest}`;
  const run = document.getElementById("run-button");
  if (!run) return;
  run.textContent =
    some || matching
      ? `Run ${counted(count, "source")}${sum.changed && sum.changed < count ? `, ${sum.changed.toLocaleString("en")} changed` : ""}`
      : run.dataset.words;
};

// One source alone can be given another path.
const nameOne = () => {
  const place = document.getElementById("desk-rename");
  if (!place) return;
  const one = !matching && chosen.size === 1 ? rows().find((row) => chosen.has(row.dataset.id)) : null;
  place.hidden = !one;
  const field = document.getElementById("desk-name");
  if (one && field.dataset.of !== one.dataset.id) {
    field.value = one.dataset.name;
    field.dataset.of = one.dataset.id;
  } else if (!one) delete field.dataset.of;
};

const show = () => {
  for (const row of rows()) {
    const on = matching || chosen.has(row.dataset.id);
    row.classList.toggle("selected", on);
    if (tickOf(row)) tickOf(row).checked = on;
  }
  const all = document.getElementById("desk-matching");
  if (all) all.checked = matching;
  const bulk = document.getElementById("desk-bulk");
  if (bulk) bulk.hidden = !matching && chosen.size === 0;
  nameOne();
  tell();
};

const choose = (row, on) => {
  if (!row) return;
  if (matching) {
    matching = false;
    for (const other of rows()) chosen.add(other.dataset.id);
  }
  on ? chosen.add(row.dataset.id) : chosen.delete(row.dataset.id);
  last = row.dataset.id;
};

const through = (row, on) => {
  const all = rows();
  const ends = [last, row.dataset.id].map((id) => all.findIndex((one) => one.dataset.id === id));
  const [from, to] = ends.sort((a, b) => a - b);
  for (const one of all.slice(Math.max(0, from), to + 1)) choose(one, on);
  last = row.dataset.id;
};

const none = () => {
  chosen.clear();
  matching = false;
  show();
};

document.addEventListener("click", (event) => {
  if (event.target.id === "desk-all") {
    matching = true;
    show();
  } else if (event.target.id === "desk-none") none();
  const row = rowOf(event.target);
  if (!row || !tickOf(row)) return;
  if (event.target === tickOf(row)) {
    const on = tickOf(row).checked;
    event.shiftKey && last ? through(row, on) : choose(row, on);
    show();
  } else if (event.shiftKey && !event.target.closest("button, input")) {
    event.preventDefault();
    last ? through(row, true) : choose(row, true);
    show();
  } else if ((event.ctrlKey || event.metaKey) && event.target.closest("a") === null) {
    choose(row, !chosen.has(row.dataset.id));
    show();
  }
});

const columns = () => {
  const all = rows();
  if (desk().dataset.view === "table") return 1;
  const top = all[0].offsetTop;
  const next = all.findIndex((row) => row.offsetTop > top);
  return next < 0 ? all.length : next;
};
const STEPS = { ArrowDown: () => columns(), ArrowUp: () => -columns(), ArrowRight: () => 1, ArrowLeft: () => -1 };

document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || document.querySelector("dialog[open]")) return;
  if (event.target.closest("input:not([type=checkbox]), select, textarea") || !rows().length) return;
  if (event.key === "Escape") return none();
  const here = rowOf(document.activeElement);
  if (event.key === " " && here && document.activeElement !== tickOf(here)) {
    choose(here, !chosen.has(here.dataset.id));
    event.preventDefault();
    return show();
  }
  const step = STEPS[event.key];
  if (!step) return;
  const all = rows();
  const next = here ? all[all.indexOf(here) + step()] : all[0];
  if (!next) return;
  event.preventDefault();
  if (event.shiftKey) {
    if (here && !chosen.has(here.dataset.id)) choose(here, true);
    choose(next, true);
    show();
  }
  next.querySelector("a").focus();
  next.scrollIntoView({ block: "nearest" });
});

// A run takes what is chosen; what the run form says counts where nothing is.
// Enter presses the button beside its field; a form alone would take its first button.
document.addEventListener("keydown", (event) => {
  if (event.key !== "Enter" || !event.target.matches("#desk-bulk input")) return;
  event.preventDefault();
  event.target.closest("label").nextElementSibling.click();
});

document.addEventListener("submit", (event) => {
  if (event.target.id !== "run-desk" || (!matching && !chosen.size)) return;
  const form = document.getElementById("run-desk");
  for (const old of form.querySelectorAll("[data-chosen]")) old.remove();
  const add = (name, value) => {
    const field = document.createElement("input");
    Object.assign(field, { type: "hidden", name, value });
    field.dataset.chosen = "";
    form.append(field);
  };
  if (event.submitter?.id === "run-all") return;
  if (event.submitter) event.submitter.value = "chosen";
  if (matching) add("matching", "1");
  else for (const id of chosen) add("source", id);
});

document.addEventListener("htmx:configRequest", (event) => {
  const shown = document.getElementById("desk-shown");
  if (event.detail.path.startsWith("/desk") && shown && event.detail.verb === "post")
    event.detail.parameters.shown = String(rows().length);
});
// What is not shown any more is not chosen either. Told in the moment of the swap: a foot that grew
// smaller when the swap has settled would pull a button away from under the pointer.
const keepShown = (event) => {
  if (event.detail.target?.id === "desk" || event.target.id === "desk") {
    const shown = new Set(rows().map((row) => row.dataset.id));
    for (const id of chosen) if (!shown.has(id)) chosen.delete(id);
  }
  show();
};
document.addEventListener("htmx:afterSwap", keepShown);
document.addEventListener("htmx:afterSettle", keepShown);

// A row that is replaced between press and release would lose the click.
let pressed = false;
document.addEventListener("pointerdown", () => { pressed = true; });
for (const end of ["pointerup", "pointercancel"]) document.addEventListener(end, () => { pressed = false; });

// Rows that are being read, drawn, run or worked out are asked for again until they are settled. A
// timer does this, and not the rows: an answer that is lost, or that finds the desk replaced, must
// not be the last one.
const EVERY_MS = 700;
const AT_ONCE = 100;
const unsettled = () => rows().filter((row) => "unsettled" in row.dataset).map((row) => row.dataset.id);
const refresh = async () => {
  const started = performance.now();
  const ids = document.hidden ? [] : unsettled().slice(0, AT_ONCE);
  if (ids.length) {
    const asked = new URLSearchParams(location.search);
    asked.delete("after");
    for (const id of ids) asked.append("row", id);
    try {
      const before = desk();
      const answer = await fetch(`/desk/fresh?${asked}`, { signal: AbortSignal.timeout(20_000) });
      const text = await answer.text();
      // The desk may be another by now: a wall, or without these rows.
      if (answer.ok && desk() === before && !pressed) window.htmx.swap(document.body, text, { swapStyle: "none" });
    } catch {
      // The server may be starting again: the next round asks once more.
    }
  }
  // Of thousands of sources an answer takes its time: the server is left three quarters of it.
  setTimeout(refresh, Math.max(EVERY_MS, 3 * (performance.now() - started)));
};
setTimeout(refresh, EVERY_MS);
document.addEventListener("htmx:oobAfterSwap", show);
show();
