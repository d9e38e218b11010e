import { onPinch } from "./pinch.js";

// A file and its reference in one view: divided, side by side, or their difference. Pixels are never
// smoothed; both are moved together.
const proofing = document.getElementById("proofing");
const stage = document.getElementById("stage");
const canvas = document.getElementById("canvas");
const divider = document.getElementById("divider");
const said = document.getElementById("proof-said");
const scaleSaid = document.getElementById("scale-said");
const context = canvas.getContext("2d");
const WIDTH = Number(proofing.dataset.width);
const HEIGHT = Number(proofing.dataset.height);
const MODES = ["divided", "beside", "difference"];
const KEEP = "proof-view";
const POLL_MS = 60;
const PINCHED = 1.5;

// How one looks is kept from cut to cut.
const kept = JSON.parse(sessionStorage.getItem(KEEP) ?? "{}");
const view = { times: 1, mode: "divided", ground: "", amplified: 8, split: 0.5, ...kept };
const centre = { x: WIDTH / 2, y: HEIGHT / 2 };
const pictures = {};

const keep = () => sessionStorage.setItem(KEEP, JSON.stringify(view));
const ratio = () => devicePixelRatio || 1;

const hatch = () => {
  const tile = new OffscreenCanvas(14, 14);
  const drawing = tile.getContext("2d");
  const style = getComputedStyle(document.documentElement);
  drawing.fillStyle = style.getPropertyValue("--hatch-a");
  drawing.fillRect(0, 0, 14, 14);
  drawing.strokeStyle = style.getPropertyValue("--hatch-b");
  drawing.lineWidth = 5;
  for (const shift of [-14, 0, 14]) {
    drawing.beginPath();
    drawing.moveTo(shift - 2, 16);
    drawing.lineTo(shift + 16, -2);
    drawing.stroke();
  }
  return context.createPattern(tile, "repeat");
};

// One picture in the columns from left to right (device px), its centre in their middle or in the
// middle of the whole stage.
const paint = (picture, left, right, middle) => {
  context.save();
  context.beginPath();
  context.rect(left, 0, right - left, canvas.height);
  context.clip();
  const x = Math.round(middle - centre.x * view.times);
  const y = Math.round(canvas.height / 2 - centre.y * view.times);
  context.fillStyle = view.ground || hatch();
  context.fillRect(x, y, WIDTH * view.times, HEIGHT * view.times);
  if (picture) {
    context.imageSmoothingEnabled = false;
    context.drawImage(picture, x, y, WIDTH * view.times, HEIGHT * view.times);
  }
  context.restore();
};

const pixels = (picture, box) => {
  const layer = new OffscreenCanvas(box.width, box.height);
  const drawing = layer.getContext("2d", { willReadFrequently: true });
  drawing.fillStyle = view.ground || "#808080";
  drawing.fillRect(0, 0, box.width, box.height);
  drawing.drawImage(picture, -box.x, -box.y, WIDTH, HEIGHT);
  return { layer, drawing, data: drawing.getImageData(0, 0, box.width, box.height) };
};

const paintDifference = () => {
  if (!pictures.reference || !pictures.shown) return;
  const left = centre.x - canvas.width / 2 / view.times;
  const top = centre.y - canvas.height / 2 / view.times;
  const x = Math.max(0, Math.floor(left));
  const y = Math.max(0, Math.floor(top));
  const box = {
    x,
    y,
    width: Math.max(1, Math.min(WIDTH, Math.ceil(left + canvas.width / view.times)) - x),
    height: Math.max(1, Math.min(HEIGHT, Math.ceil(top + canvas.height / view.times)) - y),
  };
  const one = pixels(pictures.reference, box);
  const other = pixels(pictures.shown, box);
  let largest = 0;
  for (let at = 0; at < one.data.data.length; at += 4)
    for (let band = at; band < at + 3; band += 1) {
      const apart = Math.abs(one.data.data[band] - other.data.data[band]);
      largest = Math.max(largest, apart);
      one.data.data[band] = Math.min(255, apart * view.amplified);
    }
  one.drawing.putImageData(one.data, 0, 0);
  context.imageSmoothingEnabled = false;
  context.drawImage(
    one.layer,
    Math.round(canvas.width / 2 + (x - centre.x) * view.times),
    Math.round(canvas.height / 2 + (y - centre.y) * view.times),
    box.width * view.times,
    box.height * view.times,
  );
  const white = Math.round(255 / view.amplified);
  scaleSaid.textContent =
    `Black: no difference. White: ${white} levels of 255 or more. ` +
    `The largest here is ${largest}.`;
};

const draw = () => {
  canvas.width = Math.round(stage.clientWidth * ratio());
  canvas.height = Math.round(stage.clientHeight * ratio());
  const { width } = canvas;
  scaleSaid.textContent = view.ground ? `On ${view.ground}` : "On a hatched ground";
  if (view.mode === "divided") {
    const split = Math.round(width * view.split);
    paint(pictures.reference, 0, split, width / 2);
    paint(pictures.shown, split, width, width / 2);
  } else if (view.mode === "beside") {
    const half = Math.round(width / 2);
    paint(pictures.reference, 0, half - 1, half / 2);
    paint(pictures.shown, half + 1, width, half + half / 2);
  } else paintDifference();
  divider.style.left = `${view.split * 100}%`;
  divider.hidden = view.mode !== "divided";
  divider.setAttribute("aria-valuenow", Math.round(view.split * 100));
  for (const name of ["name-left", "name-right"])
    document.getElementById(name).hidden = view.mode === "difference";
  document.getElementById("times-label").hidden = view.mode !== "difference";
  for (const [field, name] of [["mode", "mode"], ["times", "times"], ["ground", "ground"]])
    for (const button of document.querySelectorAll(`[data-${name}]`))
      button.setAttribute("aria-pressed", String(button.dataset[name] === String(view[field])));
};

const change = (values) => {
  Object.assign(view, values);
  keep();
  draw();
};

// Browsers make bitmaps of drawings by way of an image only.
const bitmapOf = async (response) => {
  if (!response.headers.get("Content-Type")?.startsWith("image/svg"))
    return createImageBitmap(await response.blob());
  const image = new Image();
  image.src = response.url;
  await image.decode();
  return createImageBitmap(image);
};

const load = async (name, response) => {
  pictures[name] = await bitmapOf(response);
  proofing.dataset.there = Object.keys(pictures).join(" ");
  draw();
};

const loadReference = async () => {
  await fetch(proofing.dataset.reference, { method: "POST" });
  for (;;) {
    const response = await fetch(proofing.dataset.reference);
    if (response.status === 200) return load("reference", response);
    if (response.status !== 202) throw new Error((await response.json()).detail);
    await new Promise((resolve) => setTimeout(resolve, POLL_MS));
  }
};

const loadShown = async () => {
  const response = await fetch(proofing.dataset.shown);
  if (!response.ok) throw new Error("the file is not there");
  return load("shown", response).catch(() => {
    throw new Error("this browser cannot show the format");
  });
};

// The curve comes after the pictures: it keeps all cores busy.
Promise.all([loadReference(), loadShown()])
  .then(
    () => (said.hidden = true),
    (error) => (said.textContent = `Cannot be shown: ${error.message}`),
  )
  .then(() => document.body.dispatchEvent(new CustomEvent("proof:shown")));

// -- moving about ---------------------------------------------------------------------------

const move = (x, y) => {
  centre.x = Math.max(0, Math.min(WIDTH, centre.x + x));
  centre.y = Math.max(0, Math.min(HEIGHT, centre.y + y));
  draw();
};

const follow = (event, moved) => {
  let last = { x: event.clientX, y: event.clientY };
  event.target.setPointerCapture(event.pointerId);
  const step = (now) => {
    moved(now.clientX - last.x, now.clientY - last.y, now);
    last = { x: now.clientX, y: now.clientY };
  };
  event.target.addEventListener("pointermove", step);
  const end = () => event.target.removeEventListener("pointermove", step);
  event.target.addEventListener("pointerup", end, { once: true });
};

// Pictures are shown at whole multiples: two fingers step from one to the next.
let spread = 1;
const pinching = onPinch(stage, (factor) => {
  spread *= factor;
  const step = spread > PINCHED ? 2 : spread < 1 / PINCHED ? 0.5 : 1;
  if (step === 1) return;
  spread = 1;
  change({ times: Math.max(1, Math.min(8, view.times * step)) });
});

canvas.addEventListener("pointerdown", (event) =>
  follow(event, (x, y) => pinching() || move((-x * ratio()) / view.times, (-y * ratio()) / view.times)),
);
divider.addEventListener("pointerdown", (event) =>
  follow(event, (_x, _y, now) => {
    if (pinching()) return;
    const box = stage.getBoundingClientRect();
    change({ split: Math.max(0, Math.min(1, (now.clientX - box.left) / box.width)) });
  }),
);
stage.addEventListener(
  "wheel",
  (event) => {
    event.preventDefault();
    if (!event.ctrlKey)
      move((event.deltaX * ratio()) / view.times, (event.deltaY * ratio()) / view.times);
    else change({ times: event.deltaY < 0 ? Math.min(8, view.times * 2) : Math.max(1, view.times / 2) });
  },
  { passive: false },
);
divider.addEventListener("keydown", (event) => {
  const step = { ArrowLeft: -0.02, ArrowRight: 0.02, Home: -1, End: 1 }[event.key];
  if (step === undefined) return;
  event.preventDefault();
  event.stopPropagation();
  change({ split: Math.max(0, Math.min(1, view.split + step)) });
});

// -- choices --------------------------------------------------------------------------------

const nextGround = () => {
  const all = [...document.querySelectorAll("[data-ground]")].map((b) => b.dataset.ground);
  change({ ground: all[(all.indexOf(view.ground) + 1) % all.length] });
};

proofing.addEventListener("click", (event) => {
  const button = event.target.closest("[data-mode], [data-times], [data-ground]");
  if (!button) return;
  const { mode, times, ground } = button.dataset;
  if (mode) change({ mode });
  else if (times) change({ times: Number(times) });
  else change({ ground });
});
document.getElementById("ground").addEventListener("input", (event) =>
  change({ ground: event.target.value }),
);
document.getElementById("amplified").value = view.amplified;
document.getElementById("amplified").addEventListener("change", (event) =>
  change({ amplified: Number(event.target.value) }),
);

document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.target.matches("input, select, [role=slider]")) return;
  if (document.querySelector("dialog[open]")) return;
  const key = event.key.toLowerCase();
  if (event.key === "ArrowLeft") document.getElementById("before")?.click();
  else if (event.key === "ArrowRight") document.getElementById("after")?.click();
  else if (key === "v") change({ mode: MODES[(MODES.indexOf(view.mode) + 1) % MODES.length] });
  else if (key === "g") nextGround();
  else return;
  event.preventDefault();
});

new ResizeObserver(draw).observe(stage);
const showPlace = () =>
  document.querySelector(".strip [aria-current]")?.scrollIntoView({ inline: "center", block: "nearest" });
showPlace();
document.body.addEventListener("htmx:oobAfterSwap", (event) => {
  if (event.detail.target.id === "strip") showPlace();
});
