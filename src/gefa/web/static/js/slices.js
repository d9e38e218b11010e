// Lines and drawn slices on the picture: pulled, moved, resized, by mouse and by key.
import { at, board, canvas, scale } from "./board.js";

const SVG = "http://www.w3.org/2000/svg";
const SNAP = 7; // screen px
const EDGE = 16; // screen px from the picture's edge where a line is pulled from
const source = document.querySelector("[data-source]").dataset.source;
const handles = document.getElementById("handles");
const pointed = document.getElementById("pointed");
const drawButton = () => document.getElementById("draw-slice");
let drawing = false;
// How many slices there were when one more was drawn: it is chosen once the server has it, and other
// answers may come before.
let before = null;
let swallow = false;
let chosen = null;

const send = (values) =>
  window.htmx.ajax("POST", `/sources/${source}/plan`, { source: board, swap: "none", values });
const say = (text) => (pointed.textContent = text);

// -- lines ------------------------------------------------------------------------------

const overlays = () => document.getElementById("outlines");
const given = (axis) => overlays().dataset[axis].split(" ").filter(Boolean);
const setLines = (axis, lines) => {
  const all = { x: given("x"), y: given("y"), [axis]: lines };
  send({ do: "guides", x: all.x.join(", "), y: all.y.join(", ") });
};
const length = (axis) => (axis === "x" ? canvas.width : canvas.height);

const snapTargets = (axis, without) => {
  const found = [0, length(axis)];
  for (const row of document.querySelectorAll("tbody[data-box]")) {
    if (row.dataset.slice === without || row.hidden) continue;
    const [x, y, width, height] = row.dataset.box.split(" ").map(Number);
    found.push(...(axis === "x" ? [x, x + width] : [y, y + height]));
  }
  for (const line of document.querySelectorAll(`.guide-grip[data-axis=${axis}]`))
    found.push(Number(line.getAttribute(`${axis}1`)));
  return found;
};
const snapped = (value, targets, free) => {
  const whole = Math.round(value);
  if (free) return whole;
  const near = targets.reduce((a, b) => (Math.abs(b - value) < Math.abs(a - value) ? b : a), 1e9);
  return Math.abs(near - value) * scale() <= SNAP ? near : whole;
};

const ghost = (axis) => {
  const line = document.createElementNS(SVG, "line");
  line.setAttribute("class", "guide");
  const other = axis === "x" ? "y" : "x";
  line.setAttribute(`${other}1`, "0");
  line.setAttribute(`${other}2`, length(other));
  handles.append(line);
  return line;
};

const pull = (event, axis, index) => {
  event.preventDefault();
  board.setPointerCapture(event.pointerId);
  const line = ghost(axis);
  const lines = given(axis);
  const targets = snapTargets(axis).filter(
    (target) => index === null || target !== Math.round(Number(lines[index])),
  );
  let value = null;
  const move = (moved) => {
    value = snapped(at(moved)[axis], targets, moved.altKey);
    line.setAttribute(`${axis}1`, value);
    line.setAttribute(`${axis}2`, value);
    const away = value <= 0 || value >= length(axis);
    line.classList.toggle("guide-away", away);
    say(away ? "Let go here and there is no line" : `Line at ${axis} ${value} px (${((100 * value) / length(axis)).toFixed(1)} %)`);
  };
  const up = () => {
    board.removeEventListener("pointermove", move);
    line.remove();
    if (value === null) return;
    swallow = true;
    const inside = value > 0 && value < length(axis);
    const next = [...lines];
    if (index === null) {
      if (!inside) return;
      next.push(String(value));
    } else if (inside) next[index] = String(value);
    else next.splice(index, 1);
    setLines(axis, next);
  };
  board.addEventListener("pointermove", move);
  board.addEventListener("pointerup", up, { once: true });
};

const edgeAt = (point) => {
  const reach = EDGE / scale();
  const inX = point.x > -reach && point.x < canvas.width + reach;
  const inY = point.y > -reach && point.y < canvas.height + reach;
  if (inY && Math.abs(point.x) < reach && point.x < reach / 2) return "x";
  if (inX && Math.abs(point.y) < reach && point.y < reach / 2) return "y";
  return null;
};

// -- drawn slices -------------------------------------------------------------------------

const drawnSlices = () => [...board.querySelectorAll(".slice-area")];
const sliceRect = (key) => board.querySelector(`.slice-area[data-slice="${CSS.escape(key)}"]`);
const boxOf = (rect) => Object.fromEntries(["x", "y", "width", "height"].map((n) => [n, Number(rect.getAttribute(n))]));
const CORNERS = [[0, 0], [0.5, 0], [1, 0], [1, 0.5], [1, 1], [0.5, 1], [0, 1], [0, 0.5]];

const placeHandles = () => {
  for (const handle of handles.querySelectorAll(".handle")) handle.remove();
  const rect = chosen === null ? null : sliceRect(chosen);
  if (!rect) return;
  const box = boxOf(rect);
  const size = 8 / scale();
  for (const [fx, fy] of CORNERS) {
    const handle = document.createElementNS(SVG, "rect");
    handle.setAttribute("class", "handle");
    handle.dataset.fx = fx;
    handle.dataset.fy = fy;
    const place = {
      x: box.x + fx * box.width - size / 2,
      y: box.y + fy * box.height - size / 2,
      width: size,
      height: size,
    };
    for (const [name, value] of Object.entries(place)) handle.setAttribute(name, String(value));
    handles.append(handle);
  }
};

const choose = (key, focus) => {
  chosen = key;
  placeHandles();
  const rect = key === null ? null : sliceRect(key);
  if (rect && focus) {
    rect.setAttribute("tabindex", "0");
    rect.focus({ preventScroll: true });
  }
};

const place = (rect, box) => {
  for (const [name, value] of Object.entries(box)) rect.setAttribute(name, value);
  say(`Slice ${box.width} × ${box.height} px at ${box.x}, ${box.y}`);
};

const clamp = (box) => ({
  ...box,
  x: Math.max(0, Math.min(canvas.width - box.width, box.x)),
  y: Math.max(0, Math.min(canvas.height - box.height, box.y)),
});

const drag = (event, change, done) => {
  event.preventDefault();
  board.setPointerCapture(event.pointerId);
  const start = at(event);
  let moved = false;
  const move = (now) => {
    const point = at(now);
    moved ||= Math.hypot(point.x - start.x, point.y - start.y) * scale() > 3;
    if (moved) change(point, start, now.altKey);
  };
  board.addEventListener("pointermove", move);
  board.addEventListener(
    "pointerup",
    () => {
      board.removeEventListener("pointermove", move);
      swallow = moved;
      done(moved);
    },
    { once: true },
  );
};

const spanned = (a, b, targets, free) => {
  const from = { x: snapped(a.x, targets.x, free), y: snapped(a.y, targets.y, free) };
  const to = { x: snapped(b.x, targets.x, free), y: snapped(b.y, targets.y, free) };
  const x = Math.max(0, Math.min(from.x, to.x));
  const y = Math.max(0, Math.min(from.y, to.y));
  return {
    x,
    y,
    width: Math.min(canvas.width, Math.max(from.x, to.x)) - x,
    height: Math.min(canvas.height, Math.max(from.y, to.y)) - y,
  };
};
const targetsFor = (key) => ({ x: snapTargets("x", key), y: snapTargets("y", key) });

const draw = (event) => {
  const targets = targetsFor();
  const rect = document.createElementNS(SVG, "rect");
  rect.setAttribute("class", "slice-area");
  handles.append(rect);
  let box = null;
  drag(
    event,
    (point, start, free) => {
      box = spanned(start, point, targets, free);
      place(rect, box);
    },
    () => {
      rect.remove();
      setDrawing(false);
      if (!box || box.width < 1 || box.height < 1) return;
      before = drawnSlices().length;
      send({ do: "draw", ...box });
    },
  );
};

const ENTER_IS_THEIRS = "input, select, textarea, summary, a, button:not(#draw-slice)";

/** For whoever has no mouse: a slice of half the canvas, to be moved and resized by arrow keys. */
const drawInTheMiddle = () => {
  const [width, height] = [canvas.width, canvas.height].map((side) => Math.max(1, Math.round(side / 2)));
  setDrawing(false);
  before = drawnSlices().length;
  send({
    do: "draw",
    x: Math.floor((canvas.width - width) / 2),
    y: Math.floor((canvas.height - height) / 2),
    width,
    height,
  });
};

const moveSlice = (event, key) => {
  const rect = sliceRect(key);
  const first = boxOf(rect);
  const targets = targetsFor(key);
  let box = first;
  drag(
    event,
    (point, start, free) => {
      const wanted = { x: first.x + point.x - start.x, y: first.y + point.y - start.y };
      const side = (axis, size) => {
        const near = snapped(wanted[axis], targets[axis], free);
        if (near !== Math.round(wanted[axis])) return near;
        return snapped(wanted[axis] + size, targets[axis], free) - size;
      };
      box = clamp({ ...first, x: side("x", first.width), y: side("y", first.height) });
      place(rect, box);
      placeHandles();
    },
    (moved) => {
      choose(key, true);
      if (moved) send({ do: "reshape", slice: key, ...box });
    },
  );
};

const resizeSlice = (event, handle) => {
  const key = chosen;
  const rect = sliceRect(key);
  const first = boxOf(rect);
  const [fx, fy] = [Number(handle.dataset.fx), Number(handle.dataset.fy)];
  const targets = targetsFor(key);
  let box = first;
  drag(
    event,
    (point, _, free) => {
      const left = fx === 0 ? point.x : first.x;
      const right = fx === 1 ? point.x : first.x + first.width;
      const top = fy === 0 ? point.y : first.y;
      const bottom = fy === 1 ? point.y : first.y + first.height;
      box = spanned({ x: left, y: top }, { x: right, y: bottom }, targets, free);
      place(rect, box);
    },
    (moved) => {
      if (moved && box.width > 0 && box.height > 0) send({ do: "reshape", slice: key, ...box });
      else placeHandles();
    },
  );
};

const setDrawing = (on) => {
  drawing = on;
  board.classList.toggle("drawing", on);
  drawButton()?.setAttribute("aria-pressed", String(on));
  if (on) say("Drag on the picture, or press Enter for a slice in its middle. Alt keeps it from snapping, Escape ends.");
};

document.addEventListener("click", (event) => {
  if (event.target.closest("#draw-slice")) setDrawing(!drawing);
});

board.addEventListener("pointerdown", (event) => {
  if (event.button !== 0 || event.shiftKey) return;
  const target = event.target;
  if (target.matches(".handle")) resizeSlice(event, target);
  else if (drawing) draw(event);
  else if (target.dataset.axis) {
    target.focus();
    pull(event, target.dataset.axis, Number(target.dataset.index));
  } else if (edgeAt(at(event))) pull(event, edgeAt(at(event)), null);
  else if (target.matches(".slice-area")) moveSlice(event, target.dataset.slice);
  else choose(null);
});
// The click that ends a drag is not meant for the part below it.
board.addEventListener(
  "click",
  (event) => {
    if (swallow) event.stopImmediatePropagation();
    swallow = false;
  },
  true,
);
board.addEventListener("pointermove", (event) => {
  const edge = event.buttons ? null : edgeAt(at(event));
  board.classList.toggle("pull-x", edge === "x");
  board.classList.toggle("pull-y", edge === "y");
});

// -- keys ---------------------------------------------------------------------------------

const ARROWS = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };
let later = null;
const soon = (action) => {
  clearTimeout(later);
  later = setTimeout(action, 350);
};

board.addEventListener("keydown", (event) => {
  const target = event.target;
  const arrow = ARROWS[event.key];
  const by = event.shiftKey ? 10 : 1;
  const gone = event.key === "Delete" || event.key === "Backspace";
  if (target.dataset?.axis) {
    const { axis, index } = target.dataset;
    const lines = given(axis);
    if (gone) lines.splice(index, 1);
    else if (arrow) {
      const step = axis === "x" ? arrow[0] : arrow[1];
      const now = Number(target.getAttribute(`${axis}1`)) + step * by;
      lines[index] = String(Math.max(1, Math.min(length(axis) - 1, now)));
      for (const side of ["1", "2"]) target.setAttribute(`${axis}${side}`, lines[index]);
    } else return;
    soon(() => setLines(axis, lines));
  } else if (target.matches(".slice-area")) {
    const key = target.dataset.slice;
    if (gone) send({ do: "slice-tick", slice: key });
    else if (arrow) {
      const box = boxOf(target);
      const change = event.altKey
        ? { width: Math.max(1, box.width + arrow[0] * by), height: Math.max(1, box.height + arrow[1] * by) }
        : { x: box.x + arrow[0] * by, y: box.y + arrow[1] * by };
      const next = clamp({ ...box, ...change });
      place(target, next);
      chosen = key;
      placeHandles();
      soon(() => send({ do: "reshape", slice: key, ...next }));
    } else return;
  } else return;
  event.preventDefault();
  event.stopPropagation();
});
document.addEventListener("keydown", (event) => {
  if (event.key === "Escape") {
    setDrawing(false);
    choose(null);
  } else if (event.key === "Enter" && drawing && !event.target.matches(ENTER_IS_THEIRS)) {
    event.preventDefault(); // a click on the button that began it would end it
    drawInTheMiddle();
  }
});

// After the server has answered, what was held stays held.
let held = null;
document.body.addEventListener("htmx:beforeSwap", () => {
  const active = document.activeElement;
  held = active?.dataset?.axis ? `.guide-grip[data-axis=${active.dataset.axis}][data-index="${active.dataset.index}"]` : null;
  if (active?.matches?.(".slice-area")) held = `.slice-area[data-slice="${CSS.escape(active.dataset.slice)}"]`;
});
const makeFocusable = () => {
  for (const rect of drawnSlices()) {
    rect.setAttribute("tabindex", "0");
    rect.setAttribute("role", "button");
    rect.setAttribute("aria-label", `Drawn slice ${Number(rect.dataset.slice) + 1}`);
  }
};
document.body.addEventListener("htmx:afterSettle", () => {
  makeFocusable();
  drawButton()?.setAttribute("aria-pressed", String(drawing));
  const drawn = drawnSlices();
  if (before !== null && drawn.length > before) {
    choose(drawn.at(-1).dataset.slice, true);
    before = null;
  }
  if (held) board.querySelector(held)?.focus({ preventScroll: true });
  held = null;
  placeHandles();
});
document.body.addEventListener("board:moved", placeHandles);
makeFocusable();
