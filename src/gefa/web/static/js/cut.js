// Keeps the picture and the list in step: pointing at one shows the place in the other.
const list = document.getElementById("list");
const board = document.getElementById("board");
const here = document.getElementById("here");
const pointed = document.getElementById("pointed");
const rows = () => [...list.querySelectorAll("tbody tr")];
let current = null;

const show = (row) => {
  const [x, y, width, height] = (row?.dataset.box ?? "0 0 0 0").split(" ");
  for (const [name, value] of Object.entries({ x, y, width, height })) here.setAttribute(name, value);
  here.classList.toggle("here-line-idle", Boolean(row?.classList.contains("idle")));
};

const select = (row, scroll) => {
  if (!row) return;
  list.querySelector("tr.here")?.classList.remove("here");
  row.classList.add("here");
  current = row.id;
  show(row);
  pointed.textContent = row.dataset.path === "/" ? "The whole canvas" : row.dataset.path;
  if (scroll) row.scrollIntoView({ block: "nearest" });
};

list.addEventListener("pointerover", (event) => show(event.target.closest("tbody tr")));
list.addEventListener("pointerleave", () => show(document.getElementById(current)));
list.addEventListener("focusin", (event) => select(event.target.closest("tbody tr"), false));
list.addEventListener("click", (event) => select(event.target.closest("tbody tr"), false));

// The pick map holds the number of the topmost part at each pixel.
let picks = null;
const loadPicks = () => {
  const image = new Image();
  image.onload = () => {
    const canvas = document.createElement("canvas");
    canvas.width = image.naturalWidth;
    canvas.height = image.naturalHeight;
    const context = canvas.getContext("2d", { willReadFrequently: true });
    context.drawImage(image, 0, 0);
    picks = { context, width: canvas.width, height: canvas.height };
  };
  image.src = board.dataset.pick;
};
loadPicks();

const rowAt = (event) => {
  if (!picks) return null;
  const [width, height] = board.dataset.size.split(" ").map(Number);
  const at = new DOMPoint(event.clientX, event.clientY).matrixTransform(board.getScreenCTM().inverse());
  const x = Math.floor((at.x / width) * picks.width);
  const y = Math.floor((at.y / height) * picks.height);
  if (x < 0 || y < 0 || x >= picks.width || y >= picks.height) return null;
  const [red, green, blue] = picks.context.getImageData(x, y, 1, 1).data;
  const number = red * 65536 + green * 256 + blue;
  return number ? document.getElementById(`part-${number - 1}`) : null;
};

board.addEventListener("pointermove", (event) => show(rowAt(event) ?? document.getElementById(current)));
board.addEventListener("pointerleave", () => show(document.getElementById(current)));
board.addEventListener("click", (event) => {
  const row = rowAt(event);
  select(row, true);
  row?.querySelector(".tick").focus({ preventScroll: true });
});

const step = (by) => {
  const all = rows();
  const at = all.findIndex((row) => row.id === current);
  const row = all[Math.max(0, Math.min(all.length - 1, at + by))];
  select(row, true);
  row?.querySelector(".tick").focus({ preventScroll: true });
};

document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  const field = event.target instanceof Element && event.target.matches(".field, dialog *");
  if (field) {
    if (event.key === "Escape" && event.target.matches(".field"))
      event.target.closest("tr").querySelector(".tick").focus();
    return;
  }
  const row = document.getElementById(current);
  if (event.key === "ArrowDown") step(1);
  else if (event.key === "ArrowUp") step(-1);
  else if (event.key === " " && row && !event.target.matches?.("button, a, input"))
    row.querySelector(".tick").click();
  else if (event.key.toLowerCase() === "n" && row) row.querySelector("[name=name]")?.select();
  else if (event.key.toLowerCase() === "c" && row) row.querySelector("select")?.focus();
  else return;
  event.preventDefault();
});

// After a row was exchanged, the place in the list stays where it was.
document.body.addEventListener("htmx:afterSettle", () => {
  const row = document.getElementById(current);
  row?.classList.add("here");
  show(row);
});
