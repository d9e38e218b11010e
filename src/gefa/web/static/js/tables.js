// Tables: on a phone each cell says which column it is of; where a table fits, its head stays.

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

function fit() {
  const around = [...document.querySelectorAll(":is(.overflow-x-auto, .desk-table):has(> table.sheet)")];
  // All of one kind after another: each change between two measurements costs a layout of the page.
  for (const one of around) one.classList.remove("fits");
  const fits = around.map((one) => one.scrollWidth <= one.clientWidth);
  for (const [at, one] of around.entries()) one.classList.toggle("fits", fits[at]);
}

function show() {
  for (const table of tables()) label(table);
  fit();
}

show();
// The body changes with the window, with the size of text, and with what is loaded into it.
new ResizeObserver(fit).observe(document.body);
document.addEventListener("htmx:afterSettle", show);
