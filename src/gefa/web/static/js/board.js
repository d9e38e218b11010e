// The picture: zoom, moving about, tiles where the preview is too coarse, and picking by pixel.
export const board = document.getElementById("board");
const [WIDTH, HEIGHT] = board.dataset.size.split(" ").map(Number);
export const canvas = { width: WIDTH, height: HEIGHT };
const TILE = 512;
const FIT = board.viewBox.baseVal;
const fit = { x: FIT.x, y: FIT.y, width: FIT.width, height: FIT.height };
let view = { ...fit };

// Screen px for each canvas px.
export const scale = () => board.getScreenCTM().a;

export const at = (event) =>
  new DOMPoint(event.clientX, event.clientY).matrixTransform(board.getScreenCTM().inverse());

const drawn = () => document.querySelector("#drawn image");

const show = (next) => {
  view = next;
  board.setAttribute("viewBox", `${view.x} ${view.y} ${view.width} ${view.height}`);
  document.body.dispatchEvent(new CustomEvent("board:moved"));
  tiles();
};

const zoom = (factor, centre) => {
  const width = Math.min(fit.width * 2, Math.max(board.clientWidth / 8, view.width / factor));
  const ratio = width / view.width;
  show({
    x: centre.x - (centre.x - view.x) * ratio,
    y: centre.y - (centre.y - view.y) * ratio,
    width,
    height: view.height * ratio,
  });
};

const middle = () => ({ x: view.x + view.width / 2, y: view.y + view.height / 2 });

const zoomings = {
  in: () => zoom(1.5, middle()),
  out: () => zoom(1 / 1.5, middle()),
  fit: () => show({ ...fit }),
  natural: () => zoom(1 / scale(), middle()),
};

document.querySelector(".zooming")?.addEventListener("click", (event) => {
  zoomings[event.target.closest("[data-zoom]")?.dataset.zoom]?.();
});

board.addEventListener(
  "wheel",
  (event) => {
    event.preventDefault();
    zoom(Math.exp(-event.deltaY / 400), at(event));
  },
  { passive: false },
);

// Drag with Shift, or with the middle button, moves the picture.
board.addEventListener("pointerdown", (event) => {
  if (!(event.button === 1 || (event.button === 0 && event.shiftKey))) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  board.setPointerCapture(event.pointerId);
  let last = { x: event.clientX, y: event.clientY };
  const move = (moved) => {
    const per = 1 / scale();
    show({
      ...view,
      x: view.x - (moved.clientX - last.x) * per,
      y: view.y - (moved.clientY - last.y) * per,
    });
    last = { x: moved.clientX, y: moved.clientY };
  };
  board.addEventListener("pointermove", move);
  board.addEventListener("pointerup", () => board.removeEventListener("pointermove", move), {
    once: true,
  });
});

// Level 0 is the whole picture in one tile; each next one is twice as large.
const levels = () => {
  const sizes = [[WIDTH, HEIGHT]];
  while (Math.max(...sizes[0]) > TILE)
    sizes.unshift(sizes[0].map((side) => Math.ceil(side / 2)));
  return sizes;
};

let waiting = null;
const tiles = () => {
  clearTimeout(waiting);
  waiting = setTimeout(layTiles, 80);
};

const layTiles = () => {
  const image = drawn();
  const group = document.getElementById("tiles");
  const wanted = scale() * devicePixelRatio;
  if (!image?.dataset.tiles || wanted <= (Number(image.dataset.width) / WIDTH) * 1.05) {
    group.replaceChildren();
    return;
  }
  const sizes = levels();
  const enough = sizes.findIndex(([width]) => width / WIDTH >= wanted * 0.95);
  const best = enough < 0 ? sizes.length - 1 : enough;
  const per = WIDTH / sizes[best][0];
  const from = (start, length) => [
    Math.max(0, Math.floor(start / per / TILE)),
    Math.floor((start + length) / per / TILE),
  ];
  const [left, right] = from(view.x, view.width);
  const [top, bottom] = from(view.y, view.height);
  const keep = new Set();
  for (let row = top; row <= bottom && row * TILE < sizes[best][1]; row += 1)
    for (let column = left; column <= right && column * TILE < sizes[best][0]; column += 1) {
      const href = `${image.dataset.tiles}/${best}/${column}_${row}`;
      keep.add(href);
      if ([...group.children].some((tile) => tile.getAttribute("href") === href)) continue;
      const tile = document.createElementNS("http://www.w3.org/2000/svg", "image");
      const place = {
        href,
        x: column * TILE * per,
        y: row * TILE * per,
        width: Math.min(TILE, sizes[best][0] - column * TILE) * per,
        height: Math.min(TILE, sizes[best][1] - row * TILE) * per,
        preserveAspectRatio: "none",
      };
      for (const [name, value] of Object.entries(place)) tile.setAttribute(name, String(value));
      group.append(tile);
    }
  for (const tile of [...group.children]) if (!keep.has(tile.getAttribute("href"))) tile.remove();
};
addEventListener("resize", tiles);

// The pick map holds the number of the topmost part at each pixel.
let picks = null;
const loadPicks = () => {
  const source = drawn()?.dataset.pick;
  if (!source || picks) return;
  const image = new Image();
  image.onload = () => {
    const map = document.createElement("canvas");
    map.width = image.naturalWidth;
    map.height = image.naturalHeight;
    const context = map.getContext("2d", { willReadFrequently: true });
    context.drawImage(image, 0, 0);
    picks = { context, width: map.width, height: map.height };
  };
  image.src = source;
};
loadPicks();
document.body.addEventListener("htmx:afterSettle", loadPicks);
document.body.addEventListener("htmx:oobAfterSwap", loadPicks);

export const rowAt = (event) => {
  if (!picks) return null;
  const point = at(event);
  const x = Math.floor((point.x / WIDTH) * picks.width);
  const y = Math.floor((point.y / HEIGHT) * picks.height);
  if (x < 0 || y < 0 || x >= picks.width || y >= picks.height) return null;
  const [red, green, blue] = picks.context.getImageData(x, y, 1, 1).data;
  const number = red * 65536 + green * 256 + blue;
  return number ? document.getElementById(`part-${number - 1}`) : null;
};
