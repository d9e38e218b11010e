// Buttons with data-copy put the text of that element on the clipboard, those with data-copy-from
// the text of that address.
const said = (button, words, again) => {
  button.textContent = words;
  setTimeout(() => (button.textContent = again), 2500);
};

document.addEventListener("click", async (event) => {
  const button = event.target.closest("[data-copy], [data-copy-from]");
  if (!button) return;
  const words = button.dataset.words ?? button.textContent;
  button.dataset.words = words;
  const { copy, copyFrom } = button.dataset;
  try {
    const text = copyFrom ? await (await fetch(copyFrom)).text() : document.getElementById(copy).textContent;
    await navigator.clipboard.writeText(text);
    said(button, "Copied", words);
  } catch {
    if (copyFrom) return said(button, "Not copied: open the file and copy its text", words);
    getSelection().selectAllChildren(document.getElementById(copy));
    said(button, "Selected: press Ctrl+C", words);
  }
});
