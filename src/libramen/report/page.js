"use strict";
// Tables sort by a column: by its numbers where it has any, else by its texts; a total stays at the end.
for (const table of document.querySelectorAll("table")) {
  const body = table.tBodies[0];
  if (body.rows.length < 2) continue;
  Array.from(table.tHead.rows[0].cells).forEach((head, place) => {
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = head.textContent;
    head.replaceChildren(button);
    button.addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") === "ascending";
      for (const other of table.tHead.rows[0].cells) other.removeAttribute("aria-sort");
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      const number = (row) => row.cells[place].dataset.value;
      const rows = Array.from(body.rows);
      rows.sort((a, b) => {
        if (a.className === "total" || b.className === "total") return a.className === "total" ? 1 : -1;
        const [one, other] = [number(a), number(b)];
        if (one === undefined && other === undefined) {
          const order = a.cells[place].textContent.localeCompare(b.cells[place].textContent, "en", { numeric: true });
          return down ? -order : order;
        }
        if (one === undefined || other === undefined) return one === undefined ? 1 : -1;
        return down ? other - one : one - other;
      });
      body.append(...rows);
    });
  });
}
