// Buttons with data-copy put the text of that element on the clipboard.
document.addEventListener("click", async (event) => {
  const button = event.target.closest("[data-copy]");
  if (!button) return;
  const text = document.getElementById(button.dataset.copy).textContent;
  try {
    await navigator.clipboard.writeText(text);
    button.textContent = "Copied";
  } catch {
    getSelection().selectAllChildren(document.getElementById(button.dataset.copy));
    button.textContent = "Selected: press Ctrl+C";
  }
  setTimeout(() => (button.textContent = "Copy"), 2500);
});
