// Tables: on a phone each cell says which column it is of; elsewhere the head stays in view, on the
// page where the table fits, else in a box that scrolls by itself.

/** @param {HTMLTableElement} table */
function label(table) {
  /** @type {string[]} */
  const heads = [];
  for (const head of table.tHead?.rows[0]?.cells ?? []) {
    const words = head.textContent?.trim() ?? "";
    for (let span = 0; span < head.colSpan; span++) heads.push(words);
  }
  for (const row of table.querySelectorAll("tbody > tr")) {
    let column = 0;
    for (const cell of /** @type {HTMLTableRowElement} */ (row).cells) {
      // The first cell names the row, and needs no word before it.
      if (column > 0 && heads[column] && cell.colSpan === 1) cell.dataset.label = heads[column];
      column += cell.colSpan;
    }
  }
}

const tables = () => /** @type {NodeListOf<HTMLTableElement>} */ (document.querySelectorAll("table.sheet"));

/** What scrolls can be scrolled by key, and says what it is.
 * @param {HTMLElement} box @param {boolean} on */
function focusable(box, on) {
  if (on === box.hasAttribute("tabindex")) return;
  if (on) {
    box.tabIndex = 0;
    box.setAttribute("role", "group");
    box.setAttribute("aria-label", "Table, scrolls sideways");
  } else for (const name of ["tabindex", "role", "aria-label"]) box.removeAttribute(name);
}

function fit() {
  const around = [...document.querySelectorAll(":is(.overflow-x-auto, .desk-table):has(> table.sheet)")];
  // All of one kind after another: each change between two measurements costs a layout of the page.
  const fits = around.map((one) => one.scrollWidth <= one.clientWidth);
  for (const [at, one] of around.entries()) {
    one.classList.toggle("fits", fits[at]);
    one.classList.toggle("scrolls", !fits[at]);
    focusable(/** @type {HTMLElement} */ (one), !fits[at]);
  }
}

// The body changes with the window and the size of text. A table also grows by itself, when its
// typeface arrives or its rows change, without a word to the body.
const sizes = new ResizeObserver(fit);

function show() {
  sizes.disconnect();
  sizes.observe(document.body);
  for (const table of tables()) {
    label(table);
    sizes.observe(table);
  }
}

show();
document.addEventListener("htmx:afterSettle", show);
