"use strict";
const details = JSON.parse(document.getElementById("details").textContent);
const table = document.getElementById("columns-table");
const body = table.tBodies[0];
const rows = Array.from(body.rows);
const shown = document.getElementById("shown");
const search = document.getElementById("search");
const measure = document.getElementById("measure");
const marked = document.getElementById("marked");

function filter() {
  const words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
  let count = 0;
  for (const row of rows) {
    const text = row.dataset.text;
    const fits = words.every((word) => text.includes(word))
      && (!measure.value || row.dataset.measure === measure.value)
      && (!marked.checked || row.dataset.marked === "yes");
    row.hidden = !fits;
    const detail = row.nextElementSibling;
    if (detail && detail.classList.contains("detail")) detail.hidden = !fits;
    if (fits) count += 1;
  }
  shown.textContent = `${count} of ${rows.length} columns shown`;
}

function value(row, at) {
  const cell = row.cells[at];
  const number = cell.dataset.value;
  return number === undefined ? cell.textContent.trim().toLowerCase() : (number === "" ? -Infinity : Number(number));
}

function sort(head) {
  const at = head.cellIndex;
  const falling = head.getAttribute("aria-sort") === "ascending";
  for (const other of head.parentElement.cells) other.removeAttribute("aria-sort");
  head.setAttribute("aria-sort", falling ? "descending" : "ascending");
  for (const old of body.querySelectorAll("tr.detail")) close(old.previousElementSibling);
  const order = rows.slice().sort((a, b) => {
    const x = value(a, at), y = value(b, at);
    return (x < y ? -1 : x > y ? 1 : 0) * (falling ? -1 : 1);
  });
  for (const row of order) body.appendChild(row);
}

function close(row) {
  const detail = row.nextElementSibling;
  if (detail && detail.classList.contains("detail")) detail.remove();
  row.querySelector("button.open").setAttribute("aria-expanded", "false");
}

function item(list, name, text) {
  if (text === null || text === undefined || text === "") return;
  const term = document.createElement("dt"), said = document.createElement("dd");
  term.textContent = name;
  said.textContent = text;
  list.append(term, said);
}

function histogram(spread) {
  const space = "http://www.w3.org/2000/svg", width = 300, height = 70;
  const svg = document.createElementNS(space, "svg");
  svg.setAttribute("viewBox", `0 0 ${width} ${height + 16}`);
  svg.setAttribute("width", width);
  svg.setAttribute("role", "img");
  svg.setAttribute("aria-label", `values from ${spread.low} to ${spread.high}`);
  const most = Math.max(...spread.counts, 1), step = width / spread.counts.length;
  spread.counts.forEach((count, at) => {
    const bar = document.createElementNS(space, "rect"), size = height * count / most;
    bar.setAttribute("class", "bar");
    bar.setAttribute("x", at * step + 0.5);
    bar.setAttribute("y", height - size);
    bar.setAttribute("width", Math.max(step - 1, 0.5));
    bar.setAttribute("height", size);
    svg.append(bar);
  });
  for (const [text, x, anchor] of [[spread.low, 0, "start"], [spread.high, width, "end"]]) {
    const label = document.createElementNS(space, "text");
    label.setAttribute("x", x);
    label.setAttribute("y", height + 13);
    label.setAttribute("text-anchor", anchor);
    label.setAttribute("class", "soft");
    label.textContent = text;
    svg.append(label);
  }
  return svg;
}

function sources(entry) {
  const table = document.createElement("table"), caption = table.createCaption();
  caption.textContent = "each value of the source beside the column";
  const head = table.createTHead().insertRow();
  for (const name of ["source", "column", "rows"]) {
    const cell = document.createElement("th");
    cell.scope = "col";
    cell.textContent = name;
    head.append(cell);
  }
  const inner = table.createTBody();
  for (const each of entry.by_source) {
    const row = inner.insertRow();
    for (const text of [each.source, each.value, each.rows]) row.insertCell().textContent = text === null ? "missing" : text;
  }
  return table;
}

function open(row) {
  const entry = details[row.dataset.name];
  const detail = document.createElement("tr"), cell = document.createElement("td"), list = document.createElement("dl");
  detail.className = "detail";
  cell.colSpan = row.cells.length;
  for (const [name, text] of entry.facts) item(list, name, text);
  cell.append(list);
  if (entry.spread) cell.append(histogram(entry.spread));
  if (entry.by_source.length) cell.append(sources(entry));
  detail.append(cell);
  row.after(detail);
  row.querySelector("button.open").setAttribute("aria-expanded", "true");
}

for (const row of rows) {
  row.querySelector("button.open").addEventListener("click", () => {
    const detail = row.nextElementSibling;
    if (detail && detail.classList.contains("detail")) close(row); else open(row);
  });
}
for (const button of table.tHead.querySelectorAll("th button")) button.addEventListener("click", () => sort(button.parentElement));
for (const control of [search, measure, marked]) control.addEventListener("input", filter);
filter();
