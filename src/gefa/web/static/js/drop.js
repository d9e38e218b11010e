// Files dropped anywhere, or chosen, are brought in one after another; each has its own line,
// so that a bad one costs no other.
const onWall = document.getElementById("bring-in") !== null;
const input = document.getElementById("file");

const table = () => {
  const place = document.getElementById("arrivals") ?? document.getElementById("drop-results");
  let body = place.querySelector("tbody");
  if (!body) {
    place.innerHTML = '<table class="arrivals mt-4"><tbody></tbody></table>';
    body = place.querySelector("tbody");
  }
  return body;
};

const line = (file) => {
  const row = table().insertRow();
  row.insertCell().textContent = file.name;
  const state = row.insertCell();
  state.textContent = "waiting";
  return { row, state };
};

const send = (file, state) =>
  new Promise((resolve) => {
    const request = new XMLHttpRequest();
    request.open("POST", "/sources");
    request.setRequestHeader("Accept", "application/json");
    request.upload.onprogress = (event) => {
      if (event.lengthComputable)
        state.textContent = `sending, ${Math.floor((100 * event.loaded) / event.total)} %`;
    };
    request.onload = () => {
      try {
        resolve(JSON.parse(request.responseText).results);
      } catch {
        resolve([{ problem: `could not be sent (${request.status}). Try again.` }]);
      }
    };
    request.onerror = () =>
      resolve([{ problem: "could not be sent: the server does not answer. Start it and try again." }]);
    const form = new FormData();
    form.append("file", file, file.name);
    request.send(form);
  });

const bringIn = async (files) => {
  const lines = files.map((file) => ({ file, ...line(file) }));
  let taken = 0;
  for (const { file, row, state } of lines) {
    const results = await send(file, state);
    const refused = results.filter((result) => result.problem);
    if (results.length > refused.length) taken += 1;
    if (!refused.length) {
      row.remove();
      continue;
    }
    state.className = "remark";
    state.textContent =
      results.length === 1
        ? refused[0].problem
        : `${results.length - refused.length} files of it came in. ${refused.map((result) => `${result.name} ${result.problem}`).join(" ")}`;
  }
  if (taken && onWall) window.htmx.ajax("GET", "/", { target: "#wall", swap: "outerHTML" });
  else if (taken && lines.length === taken) window.location.href = "/";
};

input?.addEventListener("change", () => {
  bringIn([...input.files]).then(() => (input.value = ""));
});

let depth = 0;
const carriesFiles = (event) => event.dataTransfer?.types.includes("Files");
const mark = (on) => document.body.classList.toggle("dropping", on);
addEventListener("dragenter", (event) => {
  if (carriesFiles(event)) mark(++depth > 0);
});
addEventListener("dragleave", (event) => {
  if (carriesFiles(event)) mark(--depth > 0);
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
  const own = document.querySelector("input[type=file][data-drop]");
  if (!own) return void bringIn([...event.dataTransfer.files]);
  own.files = event.dataTransfer.files;
  own.dispatchEvent(new Event("change", { bubbles: true }));
});
