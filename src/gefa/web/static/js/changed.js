// What an answer changed is pointed out for a moment.
document.body.addEventListener("htmx:oobAfterSwap", (event) => {
  const row = document.getElementById(event.detail.target.id);
  if (!row?.matches("tbody, li, .setting")) return;
  row.classList.add("changed-now");
  row.addEventListener("animationend", () => row.classList.remove("changed-now"), { once: true });
});
