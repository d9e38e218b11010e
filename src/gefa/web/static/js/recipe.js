// Shows the picture that a trial made, beside the sentence; the one before stays until it is there.
const stage = document.getElementById("tried");
const said = document.getElementById("tried-said");

const show = () => {
  const shown = document.getElementById("shown");
  if (!shown) return;
  const image = document.importNode(shown.content.querySelector("img"), true);
  image.decode().then(
    () => {
      stage.replaceChildren(image);
      said.textContent = shown.dataset.said;
    },
    () => {
      said.textContent = "This browser cannot show the format; the file is there all the same.";
    },
  );
};
document.body.addEventListener("htmx:afterSettle", show);
show();

const sample = document.getElementById("sample");
sample?.addEventListener("change", () => {
  const [source, ...part] = sample.value.split(" ");
  location.search = new URLSearchParams({ sample: source, part: part.join(" ") }).toString();
});

// What is unfolded stays so when the sentence is exchanged.
let unfolded = false;
document.addEventListener("toggle", (event) => {
  if (event.target.id === "fine" && event.target.isConnected) unfolded = event.target.open;
}, true);
document.body.addEventListener("htmx:oobAfterSwap", () => {
  const fine = document.getElementById("fine");
  if (fine && unfolded) fine.open = true;
});

// A word that was changed while the answer to the one before was on its way is not put back: its own
// answer follows.
let changes = 0;
let sent = 0;
// While a key or a button is down in the sentence, its words stay too: what is pressed on one element
// and let go on another does nothing.
let pressed = false;
let putOff = false;
const isSentence = (event) => event.target.id === "sentence";
document.body.addEventListener("change", (event) => {
  if (!event.target.closest("#sentence")) return;
  changes += 1;
  pressed = false; // a list that was opened keeps the button that is let go
});
for (const down of ["keydown", "pointerdown"]) {
  document.addEventListener(down, (event) => {
    pressed = Boolean(event.target.closest?.("#sentence"));
  }, true);
}
for (const up of ["keyup", "pointerup", "pointercancel"]) {
  document.addEventListener(up, () => {
    pressed = false;
    if (!putOff) return;
    putOff = false;
    // After the click that follows: a change of its own asks again anyway.
    setTimeout(() => {
      if (sent === changes) window.htmx.trigger("#sentence", "submit");
    });
  }, true);
}
document.body.addEventListener("htmx:beforeRequest", (event) => {
  if (isSentence(event)) sent = changes;
});
document.body.addEventListener("htmx:beforeSwap", (event) => {
  if (!isSentence(event)) return;
  if (sent !== changes || pressed) event.detail.shouldSwap = false;
  putOff ||= pressed;
});
