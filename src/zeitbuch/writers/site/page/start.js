// Sorts, filters and searches the table of the start page. Builds no markup: rows are moved and hidden, nothing else. Of a long table the first rows
// are laid out until somebody searches, filters or asks for all: thousands of rows take seconds.
"use strict";
(() => {
  const table = document.getElementById("flows");
  if (!table) return;
  const body = table.tBodies[0];
  const rows = [...body.rows];
  const find = document.getElementById("q");
  const count = document.getElementById("count");
  const picks = [...document.querySelectorAll("select[data-column]")];
  const whole = document.getElementById("whole");
  let asked = !whole;
  const texts = rows.map((row) => row.textContent.toLowerCase());
  const value = (row, column) => row.cells[column].dataset.v ?? row.cells[column].textContent;

  function show() {
    const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
    let shown = 0;
    rows.forEach((row, place) => {
      const fits = words.every((word) => texts[place].includes(word))
        && picks.every((pick) => !pick.value || value(row, pick.dataset.column).split("; ").includes(pick.value));
      row.hidden = !fits;
      shown += fits ? 1 : 0;
    });
    const narrowed = shown < rows.length;
    table.classList.toggle("whole", asked || narrowed);
    if (whole) whole.hidden = asked || narrowed;
    count.textContent = shown === rows.length ? `${rows.length} flows` : `${shown} of ${rows.length} flows`;
  }

  function sort(head, column) {
    const down = head.getAttribute("aria-sort") === "ascending";
    for (const other of table.tHead.rows[0].cells) other.removeAttribute("aria-sort");
    head.setAttribute("aria-sort", down ? "descending" : "ascending");
    const numbers = head.classList.contains("num");
    const keyed = rows.map((row, place) => ({ row, place, key: value(row, column) }));
    keyed.sort((one, other) => {
      let order;
      if (numbers) {
        const [a, b] = [parseFloat(one.key), parseFloat(other.key)];
        // What is not known stands last, whichever way.
        if (Number.isNaN(a) || Number.isNaN(b)) return (Number.isNaN(a) ? 1 : 0) - (Number.isNaN(b) ? 1 : 0) || one.place - other.place;
        order = a - b;
      } else {
        order = one.key.localeCompare(other.key);
      }
      return (down ? -order : order) || one.place - other.place;
    });
    body.append(...keyed.map((one) => one.row));
  }

  [...table.tHead.rows[0].cells].forEach((head, column) => {
    const button = head.querySelector("button");
    if (button) button.addEventListener("click", () => sort(head, column));
  });
  find.addEventListener("input", show);
  if (whole) whole.addEventListener("click", () => { asked = true; show(); });
  picks.forEach((pick) => pick.addEventListener("change", show));
  show();
})();
