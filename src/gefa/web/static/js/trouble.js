// A change that did not reach the server is never silent.
const say = (text) => {
  const place = document.getElementById("trouble");
  place.textContent = text;
  place.hidden = false;
};
const AGAIN = "Load the page again and repeat it.";

document.addEventListener("htmx:sendError", () =>
  say(`Not saved: the server does not answer. Start it, then: ${AGAIN}`),
);
document.addEventListener("htmx:responseError", (event) =>
  say(`Not saved: the server refused it (${event.detail.xhr.status}). ${AGAIN}`),
);
document.addEventListener("htmx:afterRequest", (event) => {
  if (event.detail.successful) document.getElementById("trouble").hidden = true;
});
