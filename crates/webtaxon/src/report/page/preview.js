"use strict";
// Search, kinds and order for a table that is complete without them.
(() => {
  const tools = document.querySelector(".tools");
  const table = document.querySelector("table.changes");
  if (!tools || !table) return;
  const bodies = [...table.tBodies];
  const rows = bodies.flatMap((body) =>
    [...body.rows].filter((row) => !row.classList.contains("kind"))
      .map((row) => ({ row, body, text: row.textContent.toLowerCase() })));
  const search = tools.querySelector("input[type=search]");
  const kinds = [...tools.querySelectorAll("input[type=checkbox]")];
  const count = tools.querySelector("[role=status]");
  const show = () => {
    const words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
    const off = new Set(kinds.filter((box) => !box.checked).map((box) => box.value));
    const left = new Map(bodies.map((body) => [body, 0]));
    let shown = 0;
    for (const { row, body, text } of rows) {
      const good = !off.has(body.dataset.kind) && words.every((word) => text.includes(word));
      if (row.hidden === good) row.hidden = !good;
      if (good) { shown += 1; left.set(body, left.get(body) + 1); }
    }
    for (const [body, number] of left) body.hidden = number === 0;
    count.textContent = shown === rows.length ? `${shown} shown` : `${shown} of ${rows.length} shown`;
  };
  let under = 0;
  const soon = () => { cancelAnimationFrame(under); under = requestAnimationFrame(show); };
  for (const event of ["input", "change", "search"]) search.addEventListener(event, soon);
  for (const box of kinds) box.addEventListener("change", show);
  const order = new Intl.Collator(undefined, { numeric: true, sensitivity: "base" });
  for (const [column, head] of [...table.tHead.rows[0].cells].entries()) {
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = head.textContent;
    head.replaceChildren(button);
    head.setAttribute("aria-sort", "none");
    button.addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") === "ascending";
      for (const other of table.tHead.rows[0].cells) other.setAttribute("aria-sort", "none");
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      for (const body of bodies) {
        const own = rows.filter((one) => one.body === body);
        own.sort((one, other) => (down ? -1 : 1)
          * order.compare(one.row.cells[column].textContent, other.row.cells[column].textContent));
        body.append(...own.map((one) => one.row));
      }
    });
  }
  tools.hidden = false;
  show();
})();
