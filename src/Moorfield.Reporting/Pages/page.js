"use strict";
for (const table of document.querySelectorAll("table")) {
  const body = table.tBodies[0], rows = [...body.rows], heads = [...table.tHead.rows[0].cells];
  if (rows.length < 3) continue;
  const order = new Intl.Collator("en", { numeric: true, sensitivity: "base" });
  const tools = document.createElement("div"), label = document.createElement("label"), input = document.createElement("input");
  const status = document.createElement("output");
  tools.className = "tools";
  input.type = "search";
  label.append("Filter", input);
  status.setAttribute("role", "status");
  tools.append(label, status);
  table.parentElement.before(tools);
  let sorted = "";
  const tell = () => {
    const shown = rows.filter(r => !r.hidden).length;
    status.textContent = (shown === rows.length ? rows.length : shown + " of " + rows.length) + " rows." + sorted;
  };
  input.addEventListener("input", () => {
    const words = input.value.toLowerCase().split(/\s+/).filter(w => w);
    for (const row of rows) {
      const text = row.textContent.toLowerCase();
      row.hidden = !words.every(w => text.includes(w));
    }
    tell();
  });
  heads.forEach((head, at) => {
    const button = document.createElement("button"), printed = document.createElement("span");
    button.type = "button";
    printed.className = "printed"; // a button is not repeated on the pages of a print
    printed.append(...head.childNodes);
    button.append(printed.textContent);
    head.append(button, printed);
    button.addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") === "ascending";
      heads.forEach(h => h.removeAttribute("aria-sort"));
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      const value = row => row.cells[at].dataset.v;
      rows.sort((a, b) => {
        const [x, y] = [value(a), value(b)];
        const first = x !== undefined && y !== undefined ? x - y
          : order.compare(a.cells[at].textContent, b.cells[at].textContent);
        return down ? -first : first;
      });
      body.append(...rows);
      sorted = " Sorted by " + button.textContent + ", " + (down ? "descending" : "ascending") + ".";
      tell();
    });
  });
  tell();
}
