// A field report: pictures are dropped into its text where they are to go.
const editor = document.getElementById("editor");
const blocks = document.getElementById("blocks");
const said = document.getElementById("said");
let last = null;

const say = (text) => (said.textContent = text);
const words = (text) => {
  const field = document.createElement("textarea");
  field.className = "words";
  field.dataset.kind = "words";
  field.rows = 4;
  field.setAttribute("aria-label", "Text");
  field.value = text;
  return field;
};

const place = (figure) => {
  figure.className = `editing placed-${figure.querySelector(".where").value}`;
};

// The text is parted where the picture goes.
const partAt = (field, at) => {
  const rest = words(field.value.slice(at).trimStart());
  field.value = field.value.slice(0, at).trimEnd();
  field.after(rest);
  return rest;
};

const putIn = async (file, field, at) => {
  const figure = document.getElementById("picture").content.firstElementChild.cloneNode(true);
  const holder = figure.querySelector(".editing-picture");
  holder.textContent = `Uploading ${file.name}…`;
  const rest = partAt(field, at);
  rest.before(figure);
  say("");
  const form = new FormData();
  form.append("picture", file, file.name);
  try {
    const response = await fetch(editor.dataset.pictures, { method: "POST", body: form });
    const answer = await response.json();
    if (!response.ok) throw new Error(answer.problem ?? "it could not be uploaded");
    figure.dataset.upload = answer.upload;
    holder.innerHTML = answer.html;
    figure.querySelector(".alt").focus();
    say("Unsaved changes.");
  } catch (error) {
    figure.remove();
    field.value = [field.value, rest.value].filter(Boolean).join(" ");
    rest.remove();
    say(`${file.name} was not inserted: ${error.message}`);
  }
};

blocks.addEventListener("focusin", (event) => {
  if (event.target.matches(".words")) last = event.target;
});
blocks.addEventListener("dragover", (event) => {
  if (event.dataTransfer.types.includes("Files")) event.preventDefault();
});
blocks.addEventListener("drop", (event) => {
  const file = event.dataTransfer.files[0];
  if (!file) return;
  event.preventDefault();
  const field = event.target.closest(".words") ?? last ?? blocks.querySelector(".words");
  const at = event.target.closest(".words") && field === document.activeElement ? field.selectionStart : field.value.length;
  putIn(file, field, at);
});
document.getElementById("add").addEventListener("change", (event) => {
  const [file] = event.target.files;
  const field = last ?? [...blocks.querySelectorAll(".words")].at(-1) ?? blocks.appendChild(words(""));
  if (file) putIn(file, field, last ? field.selectionStart : field.value.length);
  event.target.value = "";
});
blocks.addEventListener("change", (event) => {
  if (event.target.matches(".where")) place(event.target.closest("figure"));
  say("Unsaved changes.");
});
blocks.addEventListener("click", (event) => {
  if (!event.target.matches(".take-out")) return;
  const figure = event.target.closest("figure");
  const next = figure.nextSibling;
  figure.remove();
  say("Removed. ");
  const back = document.createElement("button");
  back.type = "button";
  back.className = "plain";
  back.textContent = "Undo";
  back.addEventListener("click", () => {
    blocks.insertBefore(figure, next);
    say("Restored.");
  });
  said.append(back);
  back.focus();
});

const content = () =>
  [...blocks.querySelectorAll(":scope > [data-kind]")]
    .filter((block) => block.dataset.kind === "words" || block.dataset.upload)
    .map((block) =>
      block.dataset.kind === "words"
        ? { kind: "words", text: block.value }
        : {
            kind: "picture",
            upload: block.dataset.upload,
            placed: block.querySelector(".where").value,
            caption: block.querySelector(".caption").value,
            alt: block.querySelector(".alt").value,
          },
    );

editor.addEventListener("submit", async (event) => {
  event.preventDefault();
  const body = JSON.stringify({ title: document.getElementById("title").value, blocks: content() });
  try {
    const response = await fetch(editor.dataset.save, {
      method: "POST",
      headers: { "Content-Type": "application/json" },
      body,
    });
    say(response.ok ? "Saved." : "Not saved: the text may be too long.");
  } catch {
    say("Not saved: the server does not answer.");
  }
});
