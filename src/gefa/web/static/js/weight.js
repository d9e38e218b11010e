// Moves along the chart of a page: what one screen is sent follows. Widths of a ladder are dragged,
// and its cost follows; both are worked out by the server.
const chart = document.getElementById("weight-chart");

const later = (work, wait) => {
  let timer;
  return (...given) => {
    clearTimeout(timer);
    timer = setTimeout(() => work(...given), wait);
  };
};

// The answer to the newest question only.
const asker = () => {
  let asked = null;
  return async (address) => {
    asked?.abort();
    asked = new AbortController();
    try {
      const answer = await fetch(address, { signal: asked.signal });
      return answer.ok ? await answer.text() : null;
    } catch {
      return null;
    }
  };
};

const replace = (id, html) => {
  const fresh = new DOMParser().parseFromString(html, "text/html").getElementById(id);
  const old = document.getElementById(id);
  if (fresh && old) old.replaceWith(document.adoptNode(fresh));
};

// -- the chart -----------------------------------------------------------------------------

const told = chart?.dataset ?? {};
const [left, right] = [Number(told.left), Number(told.right)];
const [narrowest, widest] = [Number(told.narrowest), Number(told.widest)];
const span = Math.log2(widest) - Math.log2(narrowest);
const place = new URL(location.href).searchParams;
let width = Number(chart?.getAttribute("aria-valuenow"));
let density = Number(place.get("density") ?? 3);

const askSent = asker();
const follow = later(async () => {
  place.set("width", String(width));
  place.set("density", String(density));
  history.replaceState(null, "", `?${place}`);
  const html = await askSent(`/weight/at?${place}`);
  if (html) replace("sent", html);
}, 60);

const move = (to) => {
  width = Math.round(Math.min(widest, Math.max(narrowest, to)));
  const x = left + ((Math.log2(width) - Math.log2(narrowest)) / span) * (right - left);
  for (const end of ["x1", "x2"]) chart.querySelector(".weight-cursor").setAttribute(end, String(x));
  chart.setAttribute("aria-valuenow", String(width));
  chart.setAttribute("aria-valuetext", `${width} px at ${density} device pixels`);
  follow();
};

const across = (svg, event) => {
  const point = new DOMPoint(event.clientX, event.clientY).matrixTransform(svg.getScreenCTM().inverse());
  return point.x;
};

chart?.addEventListener("pointerdown", (event) => chart.setPointerCapture(event.pointerId));
chart?.addEventListener("pointermove", (event) => {
  if (event.pointerType === "touch" && !event.buttons) return;
  move(2 ** (Math.log2(narrowest) + ((across(chart, event) - left) / (right - left)) * span));
});
chart?.addEventListener("keydown", (event) => {
  const steps = { ArrowLeft: 0.98, ArrowRight: 1.02, PageDown: 0.8, PageUp: 1.25 };
  const ends = { Home: narrowest, End: widest };
  if (event.key in steps) move(width * steps[event.key]);
  else if (event.key in ends) move(ends[event.key]);
  else if (event.key === "ArrowUp" || event.key === "ArrowDown") {
    const all = told.densities.split(" ").map(Number);
    const next = event.key === "ArrowUp" ? all.find((one) => one > density) : all.findLast((one) => one < density);
    density = next ?? density;
    move(width);
  } else return;
  event.preventDefault();
});

// -- the ladder ----------------------------------------------------------------------------

const ladder = () => document.querySelector(".ladder-chart");
const form = () => document.getElementById("ladder-form");
const rungs = () => [...document.querySelectorAll(".rung-tried")];
const askLadder = asker();

const tryWidths = later(async () => {
  const current = form();
  if (!current) return;
  const address = new URL(current.dataset.try, location.href);
  address.searchParams.set("widths", current.elements.widths.value);
  const html = await askLadder(address);
  // Only the drawing and the table: the field is being written in.
  const fresh = html && new DOMParser().parseFromString(html, "text/html");
  if (!fresh) return;
  // Whoever has gone on by Tab meanwhile stays there.
  const focused = rungs().indexOf(document.activeElement);
  for (const part of [".ladder-chart", ".ladder-table"]) {
    const [now, then] = [document.querySelector(part), fresh.querySelector(part)];
    if (now && then) now.replaceWith(document.adoptNode(then));
  }
  if (focused >= 0) rungs()[focused]?.focus();
}, 80);

const setRung = (rung, to) => {
  const most = Number(ladder().dataset.most);
  const natural = Number(rung.getAttribute("aria-valuemax"));
  const px = Math.round(Math.min(natural, Math.max(1, to)));
  rung.dataset.width = String(px);
  rung.setAttribute("aria-valuenow", String(px));
  rung.setAttribute("aria-valuetext", `${px} px`);
  const [from, end] = [Number(ladder().dataset.left), Number(ladder().dataset.right)];
  rung.setAttribute("cx", String(from + (px / most) * (end - from)));
  form().elements.widths.value = rungs().map((one) => one.dataset.width).join(", ");
  tryWidths();
};

let dragged = null;
document.addEventListener("pointerdown", (event) => {
  if (!event.target.matches?.(".rung-tried")) return;
  dragged = event.target;
  event.preventDefault();
  dragged.focus();
});
document.addEventListener("pointermove", (event) => {
  if (!dragged?.isConnected) {
    dragged = null;
    return;
  }
  const { left: from, right: end, most } = ladder().dataset;
  const share = (across(ladder(), event) - Number(from)) / (Number(end) - Number(from));
  const px = Math.round(Number(most) * share);
  // Drawn anew when it is let go: an answer would take the mark from under the pointer.
  const rung = dragged;
  rung.dataset.width = String(px);
  rung.setAttribute("cx", String(across(ladder(), event)));
});
document.addEventListener("pointerup", () => {
  if (!dragged) return;
  const rung = dragged;
  dragged = null;
  setRung(rung, Number(rung.dataset.width));
});
document.addEventListener("keydown", (event) => {
  if (!event.target.matches?.(".rung-tried")) return;
  const steps = { ArrowLeft: -10, ArrowRight: 10, PageDown: -100, PageUp: 100 };
  if (!(event.key in steps)) return;
  event.preventDefault();
  setRung(event.target, Number(event.target.dataset.width) + steps[event.key]);
});
document.addEventListener("input", (event) => {
  if (event.target === form()?.elements.widths) tryWidths();
});
