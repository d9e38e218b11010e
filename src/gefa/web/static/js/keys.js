// Single keys press the thing that carries data-key; "?" shows them all.
const typing = (target) =>
  target instanceof HTMLElement &&
  (target.isContentEditable || target.matches("input:not([type=checkbox]), textarea, select"));

document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || typing(event.target)) return;
  if (document.querySelector("dialog[open]")) return;
  const named = document.querySelector(`[data-key="${CSS.escape(event.key.toLowerCase())}"]`);
  if (!named || named.disabled) return;
  event.preventDefault();
  if (named.matches("input:not([type=file])")) named.focus();
  else named.click();
});

document.getElementById("show-keys")?.addEventListener("click", () => {
  document.getElementById("keys").showModal();
});
