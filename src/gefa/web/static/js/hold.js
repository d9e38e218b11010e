// A plain form that leads to another page waits for changes that are still on their way, so that
// what it starts knows of them. A change that is refused holds it back: it says why, beside its field.
const SENDS = "[hx-post], [hx-put], [hx-patch], [hx-delete]";
const LINGER = 200; // ms between a change and its request, at most
const BY_ITSELF = new Set(["load", "proof:shown"]); // triggers of what a page only works out
let underway = 0;
let lingering = 0;
let refused = false;
let holding = false;

const counts = (event) => {
  const { verb, triggeringEvent } = event.detail.requestConfig ?? {};
  return verb !== "get" && !BY_ITSELF.has(triggeringEvent?.type);
};
const unsettled = () => underway > 0 || lingering > 0;

// Counted on the request itself: htmx tells nothing to the document when a request ends whose element
// is gone by then.
document.addEventListener("htmx:beforeRequest", (event) => {
  if (!counts(event)) return;
  const { xhr } = event.detail;
  underway += 1;
  xhr.addEventListener("error", () => { refused = true; });
  xhr.addEventListener("loadend", () => {
    underway -= 1;
    if (xhr.status >= 400) refused = true;
  });
});
// A timer, and not the time of day: where everything stands still for a while, it still ends after
// the earlier one that sends the request.
document.addEventListener("change", (event) => {
  if (!event.target.closest(SENDS)) return;
  lingering += 1;
  setTimeout(() => { lingering -= 1; }, LINGER);
}, true);

// An answer may have put another form in its place.
const now = (form) => (form.isConnected ? form : document.getElementById(form.id));
const buttonNow = (button, form) => {
  if (!button || button.isConnected) return button;
  const same = (other) => (button.id ? other.id === button.id : other.name === button.name && other.value === button.value);
  return [...form.elements].find(same) ?? null;
};

document.addEventListener("submit", async (event) => {
  const form = event.target;
  if (form.closest(SENDS) || form.closest("[hx-get]") || !unsettled()) return;
  event.preventDefault();
  if (holding) return;
  holding = true;
  refused = false;
  while (unsettled()) await new Promise((done) => setTimeout(done, 20));
  holding = false;
  const there = now(form);
  if (!refused && there) there.requestSubmit(buttonNow(event.submitter, there));
}, true);
