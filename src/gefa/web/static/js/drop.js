// Files and folders dropped anywhere, or chosen, are brought in, a few at once. One line tells how
// far that is and lets it be stopped; what was refused is listed with its reason.
const bringsIn = "bringsIn" in document.body.dataset;
const onDesk = document.getElementById("bring-in") !== null;
const AT_ONCE = 3;
const LISTED = 200;

const counted = (number, one) => `${number.toLocaleString("en")} ${one}${number === 1 ? "" : "s"}`;
const megabytes = (bytes) => `${(bytes / 1e6).toLocaleString("en", { maximumFractionDigits: 1 })} MB`;

// A line of progress, a way to stop, and a table of what was refused.
const report = () => {
  const place = document.getElementById("arrivals") ?? document.getElementById("drop-results");
  place.innerHTML =
    '<p class="arriving mt-4"><progress max="1" value="0" aria-label="Brought in"></progress> <span></span> <button type="button" class="quiet small">Stop</button></p><table class="arrivals"><tbody></tbody></table>';
  const [bar, words, stop] = place.querySelector("p").children;
  const body = place.querySelector("tbody");
  let listed = 0;
  return {
    stop,
    tell(share, text) {
      bar.value = share;
      words.textContent = text;
    },
    refuse(name, reason) {
      listed += 1;
      if (listed > LISTED) return;
      const row = body.insertRow();
      row.insertCell().textContent = name;
      const cell = row.insertCell();
      cell.className = "remark";
      cell.textContent = reason;
    },
    end(text) {
      stop.remove();
      bar.remove();
      words.textContent = text;
      if (listed > LISTED) body.insertRow().insertCell().textContent = `and ${listed - LISTED} more`;
    },
    clear: () => place.replaceChildren(),
  };
};

const send = (item, onBytes, signal) =>
  new Promise((resolve) => {
    const request = new XMLHttpRequest();
    const failed = (problem) => resolve([{ name: item.path, source: "", problem }]);
    request.open("POST", "/sources");
    request.setRequestHeader("Accept", "application/json");
    request.upload.onprogress = (event) => onBytes(event.loaded);
    request.onload = () => {
      try {
        resolve(JSON.parse(request.responseText).results);
      } catch {
        failed(`could not be sent (${request.status}). Try again.`);
      }
    };
    request.onerror = () =>
      failed("could not be sent: the server does not answer. Start it and try again.");
    request.onabort = () => resolve(null);
    signal.addEventListener("abort", () => request.abort());
    const form = new FormData();
    form.append("file", item.file, item.path);
    request.send(form);
  });

const READ = /\.(svgz?|ora|png|jpe?g|webp|avif|gif|tiff?|hei[cf]|zip)$/i;

// Items are files with their paths. Of a folder, what no picture or design is called like is left
// out and counted: nobody chose it.
const bringIn = async (items) => {
  const wanted = items.filter((item) => !item.inFolder || READ.test(item.path));
  const left = items.length - wanted.length;
  if (!items.length) return;
  const shown = report();
  const stopper = new AbortController();
  shown.stop.addEventListener("click", () => stopper.abort());
  const total = wanted.reduce((sum, item) => sum + item.file.size, 0);
  const sent = new Map();
  const tally = { done: 0, taken: 0, same: 0, refused: 0 };
  const tell = () => {
    const bytes = [...sent.values()].reduce((sum, value) => sum + value, 0);
    shown.tell(
      total ? Math.min(1, bytes / total) : 1,
      `${tally.done.toLocaleString("en")} of ${counted(wanted.length, "file")}, ${megabytes(Math.min(bytes, total))} of ${megabytes(total)}`,
    );
  };
  const queue = [...wanted];
  const take = async () => {
    while (queue.length && !stopper.signal.aborted) {
      const item = queue.shift();
      const results = await send(
        item,
        (bytes) => {
          sent.set(item, bytes);
          tell();
        },
        stopper.signal,
      );
      if (!results) return;
      sent.set(item, item.file.size);
      tally.done += 1;
      for (const result of results) {
        if (result.problem) {
          tally.refused += 1;
          shown.refuse(result.name, result.problem);
        } else if (result.same) tally.same += 1;
        else tally.taken += 1;
      }
      tell();
    }
  };
  await Promise.all(Array.from({ length: AT_ONCE }, take));
  const words = [`${counted(tally.taken, "file")} brought in`];
  if (tally.same) words.push(`${tally.same.toLocaleString("en")} already here, unchanged`);
  if (tally.refused) words.push(`${tally.refused.toLocaleString("en")} refused`);
  if (left) words.push(`${counted(left, "other file")} in the folder left out`);
  if (stopper.signal.aborted) words.push(`stopped with ${(wanted.length - tally.done).toLocaleString("en")} to go`);
  shown.end(`${words.join(", ")}.`);
  if (tally.taken && onDesk)
    window.htmx.ajax("GET", location.pathname + location.search, { target: "#desk", swap: "outerHTML" });
  else if (tally.taken && !tally.refused) window.location.href = "/";
};

const chosen = (files) =>
  [...files].map((file) => ({
    file,
    path: file.webkitRelativePath || file.name,
    inFolder: Boolean(file.webkitRelativePath),
  }));
for (const id of ["file", "folder-input"]) {
  const input = document.getElementById(id);
  input?.addEventListener("change", () => {
    bringIn(chosen(input.files)).then(() => (input.value = ""));
  });
}

// Everything in what was dropped, with the paths of folders. Entries have to be asked for before
// the event is over.
const dropped = async (transfer) => {
  const entries = [...transfer.items].map((item) => item.webkitGetAsEntry?.()).filter(Boolean);
  if (!entries.length) return chosen(transfer.files);
  const found = [];
  const fileOf = (entry) => new Promise((resolve, reject) => entry.file(resolve, reject));
  const some = (reader) => new Promise((resolve, reject) => reader.readEntries(resolve, reject));
  const walk = async (entry, inFolder) => {
    if (entry.name.startsWith(".")) return;
    if (entry.isFile)
      found.push({ file: await fileOf(entry), path: entry.fullPath.slice(1), inFolder });
    else {
      const reader = entry.createReader();
      for (let batch = await some(reader); batch.length; batch = await some(reader))
        for (const child of batch) await walk(child, true);
    }
  };
  for (const entry of entries) await walk(entry, false);
  return found;
};

let depth = 0;
const carriesFiles = (event) => event.dataTransfer?.types.includes("Files");
const ownPlace = () => document.querySelector("input[type=file][data-drop]");
const takesFiles = () => bringsIn || ownPlace() !== null;
const mark = (on) => document.body.classList.toggle("dropping", on);
addEventListener("dragenter", (event) => {
  if (carriesFiles(event) && takesFiles()) mark(++depth > 0);
});
addEventListener("dragleave", (event) => {
  if (carriesFiles(event) && takesFiles()) mark(--depth > 0);
});
addEventListener("dragover", (event) => {
  if (carriesFiles(event)) event.preventDefault();
});
addEventListener("drop", (event) => {
  if (!carriesFiles(event)) return;
  event.preventDefault();
  depth = 0;
  mark(false);
  // A page may have a place of its own for files.
  const own = ownPlace();
  if (own) {
    own.files = event.dataTransfer.files;
    own.dispatchEvent(new Event("change", { bubbles: true }));
  } else if (bringsIn) dropped(event.dataTransfer).then(bringIn);
});
