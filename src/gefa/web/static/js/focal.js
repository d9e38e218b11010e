// The focal point, dragged on the picture or moved by key; every crop follows at once, and is made
// when the point has come to rest.
import { cropRound } from "./crop.js";

const picture = document.getElementById("focal");
const MOVE = 0.01;
const MOVE_FINE = 0.001;
const ZOOM = 0.1;
const MAX_ZOOM = 8;
const REST_MS = 500;

const start = () => {
  const { width, height, x, y, zoom, url } = picture.dataset;
  const size = { width: Number(width), height: Number(height) };
  const focus = { x: Number(x), y: Number(y), zoom: Number(zoom) };
  const handle = document.getElementById("handle");
  const fields = ["focal-x", "focal-y", "focal-zoom"].map((id) => document.getElementById(id));
  const said = document.getElementById("zoom-said");

  const between = (value, least, most) => Math.max(least, Math.min(most, value));

  const draw = () => {
    handle.style.left = `${focus.x * 100}%`;
    handle.style.top = `${focus.y * 100}%`;
    const percent = (value) => String(Math.round(value * 1000) / 10);
    [percent(focus.x), percent(focus.y), String(focus.zoom)].forEach((text, at) => {
      if (document.activeElement !== fields[at] || fields[at].type === "range")
        fields[at].value = text;
    });
    said.textContent = `${focus.zoom.toFixed(1)} times`;
    for (const crop of document.querySelectorAll("[data-crop][data-follows]")) {
      const rect = cropRound(size, Number(crop.dataset.ratio), focus);
      crop.setAttribute("viewBox", `${rect.x} ${rect.y} ${rect.width} ${rect.height}`);
      for (const line of document.querySelectorAll(`[data-crop-line="${crop.dataset.crop}"] rect`))
        for (const side of ["x", "y", "width", "height"]) line.setAttribute(side, rect[side]);
      const told = document.querySelector(`[data-size-of="${crop.dataset.crop}"]`);
      if (told)
        told.textContent = `${rect.width.toLocaleString("en")} × ${rect.height.toLocaleString("en")} px`;
    }
  };

  let resting = 0;
  const keep = () => {
    clearTimeout(resting);
    resting = setTimeout(() => {
      const values = { focal_x: focus.x.toFixed(4), focal_y: focus.y.toFixed(4), zoom: focus.zoom.toFixed(2) };
      window.htmx.ajax("POST", url, { values, target: "#files", swap: "outerHTML" });
    }, REST_MS);
  };

  const change = (values) => {
    Object.assign(focus, values);
    focus.x = between(focus.x, 0, 1);
    focus.y = between(focus.y, 0, 1);
    focus.zoom = between(Math.round(focus.zoom * 100) / 100, 1, MAX_ZOOM);
    draw();
    keep();
  };

  const drawn = picture.querySelector("svg");
  const at = (event) => {
    const box = drawn.getBoundingClientRect();
    return { x: (event.clientX - box.left) / box.width, y: (event.clientY - box.top) / box.height };
  };
  picture.addEventListener("pointerdown", (event) => {
    if (event.target.closest("figcaption")) return;
    event.preventDefault();
    handle.focus();
    change(at(event));
    picture.setPointerCapture(event.pointerId);
    const move = (now) => change(at(now));
    picture.addEventListener("pointermove", move);
    picture.addEventListener("pointerup", () => picture.removeEventListener("pointermove", move), { once: true });
  });
  drawn.addEventListener("wheel", (event) => {
    event.preventDefault();
    change({ zoom: focus.zoom + (event.deltaY < 0 ? ZOOM : -ZOOM) });
  }, { passive: false });

  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.target.matches("input, select, textarea, pre")) return;
    if (document.querySelector("dialog[open]")) return;
    const step = event.shiftKey ? MOVE_FINE : MOVE;
    if (event.key === "ArrowLeft") change({ x: focus.x - step });
    else if (event.key === "ArrowRight") change({ x: focus.x + step });
    else if (event.key === "ArrowUp") change({ y: focus.y - step });
    else if (event.key === "ArrowDown") change({ y: focus.y + step });
    else if (event.key === "+") change({ zoom: focus.zoom + ZOOM });
    else if (event.key === "-") change({ zoom: focus.zoom - ZOOM });
    else return;
    event.preventDefault();
  });
  for (const [index, field] of fields.entries())
    field.addEventListener(field.type === "range" ? "input" : "change", () => {
      const value = Number(field.value.replace(",", "."));
      if (!Number.isFinite(value)) return draw();
      change([{ x: value / 100 }, { y: value / 100 }, { zoom: value }][index]);
    });

  // After an answer: the crops as they are drawn anew, and a point that was given back.
  document.body.addEventListener("htmx:afterSettle", (event) => {
    const files = document.getElementById("files");
    const [nx, ny, nz] = (files?.dataset.focus ?? "").split(" ").map(Number);
    const suggested = event.detail.requestConfig?.path?.endsWith("/suggest");
    if (suggested && Number.isFinite(nx)) Object.assign(focus, { x: nx, y: ny, zoom: nz });
    draw();
  });
  document.getElementById("focal-form").addEventListener("submit", (event) => event.preventDefault());
  draw();
};

if (picture && document.getElementById("handle")) start();
