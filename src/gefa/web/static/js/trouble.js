// A change that did not reach the server is never silent: it is told beside what caused it.
const AGAIN = "Load the page again and repeat it.";
const everywhere = document.getElementById("trouble");
const HERE = "trouble-here";

const clear = () => {
  everywhere.hidden = true;
  for (const told of document.querySelectorAll(`.${HERE}`)) told.remove();
};

const say = (text, cause) => {
  clear();
  const place = cause?.closest?.(".sentence p, .list form, .list details, .list td");
  if (!place?.isConnected) {
    everywhere.textContent = text;
    everywhere.hidden = false;
    return;
  }
  const told = document.createElement("p");
  told.className = `remark ${HERE}`;
  told.setAttribute("role", "alert");
  told.textContent = text;
  if (place.matches("form")) place.after(told);
  else place.append(told);
};

const reason = (xhr) => {
  const page = new DOMParser().parseFromString(xhr.responseText, "text/html");
  const told = page.querySelector("[data-problem]");
  if (told) return told.dataset.problem;
  try {
    return JSON.parse(xhr.responseText).detail;
  } catch {
    return `the server refused it (${xhr.status}). ${AGAIN}`;
  }
};

// In a form of many fields, the one that was changed.
const causeOf = (event) =>
  event.detail.requestConfig?.triggeringEvent?.target ?? event.detail.elt;

document.addEventListener("htmx:sendError", (event) =>
  say(`Not saved: the server does not answer. Start it, then: ${AGAIN}`, causeOf(event)),
);
// Heard also of what has been replaced since it asked, which "htmx:responseError" is not.
document.addEventListener("htmx:afterRequest", (event) => {
  if (event.detail.failed) say(`Not saved: ${reason(event.detail.xhr)}`, causeOf(event));
  else if (event.detail.successful) clear();
});
