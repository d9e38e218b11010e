// A plain form that leads to another page waits for changes that are still on their way, so that
// what it starts knows of them. A change that is refused holds it back: it says why, beside its field.
const SENDS = "[hx-post], [hx-put], [hx-patch], [hx-delete]";
const LINGER = 200; // ms between a change and its request, at most
let underway = 0;
let changed = -Infinity;
let refused = false;
let holding = false;

const counts = (event) => event.detail.requestConfig?.verb !== "get";
const unsettled = () => underway > 0 || performance.now() - changed < LINGER;

document.addEventListener("htmx:beforeRequest", (event) => {
  if (counts(event)) underway += 1;
});
document.addEventListener("htmx:afterRequest", (event) => {
  if (event.detail.failed) refused = true;
  if (counts(event)) underway -= 1;
});
document.addEventListener("htmx:sendError", () => {
  refused = true;
});
document.addEventListener("change", (event) => {
  if (event.target.closest(SENDS)) changed = performance.now();
}, true);

// An answer may have put another form in its place.
const now = (form) => (form.isConnected ? form : document.getElementById(form.id));

document.addEventListener("submit", async (event) => {
  const form = event.target;
  if (form.closest(SENDS) || form.closest("[hx-get]") || !unsettled()) return;
  event.preventDefault();
  if (holding) return;
  holding = true;
  refused = false;
  while (unsettled()) await new Promise((done) => setTimeout(done, 20));
  holding = false;
  if (!refused) now(form)?.requestSubmit(event.submitter?.isConnected ? event.submitter : null);
}, true);
