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
