// Names of cuts on the picture: of every outline that has room for its name, and always of the part
// that is pointed at.
import { board, scale } from "./board.js";

const group = document.getElementById("names");
const here = document.getElementById("here");
const SIZE = 11;
const AHEAD = 4;

const box = (rect) => ["x", "y", "width", "height"].map((side) => Number(rect.getAttribute(side)));

// A name inside the upper left corner, as large on the screen at every zoom; sizes in canvas px.
const write = (name, x, y) => {
  const per = 1 / scale();
  const text = document.createElementNS("http://www.w3.org/2000/svg", "text");
  text.textContent = name;
  text.setAttribute("class", "cut-name");
  text.setAttribute("font-size", String(SIZE * per));
  text.setAttribute("stroke-width", String(3 * per));
  text.setAttribute("x", String(x + AHEAD * per));
  text.setAttribute("y", String(y + (SIZE + AHEAD) * per));
  group.append(text);
  return text.getBBox();
};

const meet = (one, other) =>
  one.x < other.x + other.width && other.x < one.x + one.width &&
  one.y < other.y + other.height && other.y < one.y + one.height;

const draw = () => {
  group.replaceChildren();
  const per = 1 / scale();
  const taken = [];
  for (const line of board.querySelectorAll(".cut-line[data-name]")) {
    const [x, y, width, height] = box(line);
    const place = write(line.dataset.name, x, y);
    const room = place.width + 2 * AHEAD * per <= width && (SIZE + 2 * AHEAD) * per <= height;
    if (room && !taken.some((other) => meet(place, other))) taken.push(place);
    else group.lastChild.remove();
  }
  const [x, y, width] = box(here);
  const row = document.querySelector("tbody.here, tbody:hover");
  if (!width || !row?.dataset.said) return;
  const shown = [...group.children].some((text) => text.textContent === row.dataset.called);
  if (!shown) write(row.dataset.called ?? row.dataset.said, x, y - (SIZE + 2 * AHEAD) * per);
};

let waiting = 0;
const soon = () => {
  cancelAnimationFrame(waiting);
  waiting = requestAnimationFrame(draw);
};
new MutationObserver(soon).observe(here, { attributes: true });
new ResizeObserver(soon).observe(board);
document.body.addEventListener("board:moved", soon);
document.body.addEventListener("htmx:oobAfterSwap", soon);
