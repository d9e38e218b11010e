const TOLD_MS = 4000;

// A form that saves as it is filled in says so.
document.body.addEventListener("htmx:afterRequest", (event) => {
  const told = event.detail.elt.matches("form") && event.detail.elt.querySelector("[data-saved]");
  if (!told || !event.detail.successful) return;
  told.textContent = "✓ Saved";
  setTimeout(() => (told.textContent = ""), TOLD_MS);
});

// What an answer changed is pointed out for a moment.
document.body.addEventListener("htmx:oobAfterSwap", (event) => {
  const row = document.getElementById(event.detail.target.id);
  if (!row?.matches("tbody, li, .setting")) return;
  row.classList.add("changed-now");
  row.addEventListener("animationend", () => row.classList.remove("changed-now"), { once: true });
});
