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
  if (rows.length > 7) tools.append(label);
  tools.append(status);
  table.parentElement.before(tools);
  let sorted = "";
  const tell = () => {
    const shown = rows.filter(r => !r.hidden).length;
    const count = (shown === rows.length ? rows.length : shown + " of " + rows.length) + " rows.";
    status.textContent = (rows.length > 7 ? count : "") + sorted;
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
      const value = row => {
        const cell = row.cells[at], size = /^([+-]?[\d.]+) ([KMGT]?)B\b/.exec(cell.textContent);
        return cell.dataset.v ?? (size ? size[1] * 1024 ** " KMGT".indexOf(size[2] || " ") : undefined);
      };
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
for (const figure of document.querySelectorAll(".matrix")) {
  const { rows, columns, states, cells } = JSON.parse(figure.querySelector("script").textContent);
  const packed = Uint8Array.from(atob(cells), c => c.charCodeAt(0));
  const state = (row, column) => packed[row * columns.length + column >> 2] >> (row * columns.length + column) % 4 * 2 & 3;
  const left = 190, high = 14, wide = Math.max(1, Math.min(16, Math.floor(1100 / columns.length)));
  const top = wide < 12 ? 4 : 110, heights = [0, 3, 7, 12];
  const width = left + wide * columns.length + 4, height = top + high * rows.length + 4;
  const frame = document.createElement("div"), canvas = document.createElement("canvas"), pen = canvas.getContext("2d");
  const key = document.createElement("p"), name = figure.querySelector("figcaption").textContent;
  const hint = "Cells that are filled low: " + states[1] + "; half: " + states[2] + "; whole: " + states[3] + ". Point at a cell to read it.";
  const short = text => text.length > 28 ? text.slice(0, 27) + "\u2026" : text;
  const draw = () => {
    const style = getComputedStyle(figure), scale = devicePixelRatio;
    const [line, accent] = ["--line", "--accent"].map(n => style.getPropertyValue(n));
    canvas.width = width * scale;
    canvas.height = height * scale;
    pen.scale(scale, scale);
    pen.font = "12px system-ui, sans-serif";
    pen.fillStyle = style.color;
    rows.forEach((text, row) => pen.fillText(short(text), 0, top + row * high + 11, left - 8));
    if (top > 4) columns.forEach((text, column) => {
      pen.save();
      pen.translate(left + column * wide + wide / 2 + 4, top - 6);
      pen.rotate(-Math.PI / 2);
      pen.fillText(short(text), 0, 0, top - 8);
      pen.restore();
    });
    pen.fillStyle = line;
    rows.forEach((_, row) => pen.fillRect(left, top + row * high + 12, wide * columns.length, 1));
    pen.fillStyle = accent;
    rows.forEach((_, row) => {
      for (let column = 0; column < columns.length; column++) {
        const filled = heights[state(row, column)];
        if (filled) pen.fillRect(left + column * wide, top + row * high + 13 - filled, wide > 3 ? wide - 1 : wide, filled);
      }
    });
  };
  canvas.style.width = width + "px";
  canvas.style.height = height + "px";
  canvas.setAttribute("role", "img");
  canvas.setAttribute("aria-label", name + ". The table below says the same.");
  canvas.addEventListener("pointermove", e => {
    const size = canvas.getBoundingClientRect(), by = width / size.width;
    const row = Math.floor(((e.clientY - size.top) * by - top) / high), column = Math.floor(((e.clientX - size.left) * by - left) / wide);
    key.textContent = rows[row] !== undefined && columns[column] !== undefined
      ? rows[row] + " on " + columns[column] + ": " + states[state(row, column)] + "." : hint;
  });
  canvas.addEventListener("pointerleave", () => key.textContent = hint);
  key.textContent = hint;
  frame.className = "scroll";
  frame.tabIndex = 0;
  frame.setAttribute("role", "region");
  frame.setAttribute("aria-label", name);
  frame.append(canvas);
  figure.append(key, frame);
  for (const what of ["print", "(prefers-color-scheme: dark)"]) matchMedia(what).addEventListener("change", draw);
  draw();
}
