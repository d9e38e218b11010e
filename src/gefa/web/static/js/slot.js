// The picture that a slot is tried with, its crops drawn on it; the one before stays until it is there.
const stage = document.getElementById("tried");
const show = () => {
  const drawn = document.getElementById("drawn");
  if (!drawn || !stage) return;
  stage.replaceChildren(document.importNode(drawn.content, true));
};
document.body.addEventListener("htmx:afterSettle", show);
show();

const form = document.getElementById("trial-form");
document.getElementById("trial-file")?.addEventListener("change", (event) => {
  if (event.target.files.length) form.requestSubmit();
});
