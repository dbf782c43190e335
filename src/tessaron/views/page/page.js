"use strict";
let chart = null;
const at = (id) => document.getElementById(id);
const number = (value) => value.toLocaleString("en-US");

function make(name, given, ...inside) {
  const element = document.createElement(name);
  for (const [key, value] of Object.entries(given || {})) {
    if (key === "onclick") element.addEventListener("click", value);
    else if (value !== null && value !== undefined && value !== false) element.setAttribute(key, value === true ? "" : value);
  }
  element.append(...inside.filter((each) => each !== null && each !== undefined && each !== ""));
  return element;
}

/* What was read: paths with what is above each, the columns that take them, the notes on them. */
const [DEPTH, NAME, REST, ROWS, FILLED, TYPE, KINDS, DISTINCT, VALUES, EXAMPLE, SOURCE, LINE, WHY, OPENS] = Array(14).keys();
let paths = [], byPath = new Map();

function readPaths() {
  paths = []; byPath = new Map();
  const above = [];
  for (const row of chart.paths || []) {
    above.length = row[DEPTH];
    const parent = above.length ? above[above.length - 1] : null;
    const whole = Array.isArray(row[REST]) ? row[REST][0] : (parent ? parent.path : "") + row[REST];
    const entry = { row, parent, path: whole, index: paths.length, below: [], columns: [], notes: [], isOpen: false, element: null };
    if (parent) parent.below.push(entry);
    paths.push(entry); byPath.set(whole, entry); above.push(entry);
  }
  for (const note of chart.notes || []) if (note[1] >= 0 && paths[note[1]]) paths[note[1]].notes.push(note);
  for (const table of chart.tables || []) {
    for (const column of table.columns) if (column[3] >= 0 && paths[column[3]]) paths[column[3]].columns.push([table.name, column[0]]);
  }
}

const placeOf = (source, line) => (source < 0 ? "" : chart.sources[source] + (line === null ? "" : ", line " + number(line)));

function say(text) {
  at("said").textContent = text;
  clearTimeout(say.timer);
  say.timer = setTimeout(() => { at("said").textContent = ""; }, 2500);
}

async function copy(text) {
  try {
    await navigator.clipboard.writeText(text);
  } catch {
    const area = make("textarea", {}); area.value = text;
    document.body.append(area); area.select(); document.execCommand("copy"); area.remove();
  }
  say("copied: " + text);
}

const copyButton = (label, text) => make("button", { type: "button", class: "copy", onclick: () => copy(text) }, label);
const pathLink = (entry, text) => make("a", { href: "#path=" + encodeURIComponent(entry.path), class: "path" }, text || entry.path);
/* A long name may break behind its lines and points. */
const breakable = (name) => name.split(/(?<=[_.])/).flatMap((part, place) => (place ? [make("wbr"), part] : [part]));
const tableLink = (name, column) => make("a", { href: "#table=" + encodeURIComponent(name) + (column ? "&column=" + encodeURIComponent(column) : "") }, ...breakable(column ? name + "." + column : name));

/* The tree. */
const heads = [["path", ""], ["rows", "number wider"], ["filled", ""], ["type", ""], ["distinct", "number wider"], ["goes to", "goes wider"], ["values", "values"]];
let shownPaths = null, chosenPath = null, treeBody = null, hasCounts = true;

function share(entry) {
  const [rows, filled] = [entry.row[ROWS], entry.row[FILLED]];
  if (rows === null || filled === null || !rows) return null;
  return filled / rows;
}

function percent(part) {
  if (part >= 0.9995 && part < 1) return "<100%";
  if (part > 0 && part < 0.0005) return ">0%";
  if (part === 1) return "100%";
  /* Halves go to the even digit, as they do on terminals; of one digit only a quarter is a half that differs. */
  const value = part * 100;
  return (value % 1 === 0.25 ? value - 0.05 : value).toFixed(1) + "%";
}

function fillCell(entry) {
  const part = share(entry);
  if (part === null || (entry.row[OPENS] && part === 1)) return make("td", {});
  const depth = make("span", { class: "depth" }, make("i", {}), percent(part));
  depth.firstChild.style.width = (part * 100).toFixed(1) + "%";
  return make("td", {}, depth);
}

function rowOf(entry) {
  const { row } = entry, isLeaf = !entry.below.length;
  const name = make("td", {}, make("span", { class: isLeaf ? "twist leaf" : "twist", "aria-hidden": "true" }), row[NAME]);
  name.style.paddingLeft = Math.min(row[DEPTH], 14) * 1.1 + "em";
  if (entry.notes.length) name.append(make("span", { class: "mark", title: entry.notes.map((note) => note[3]).join("\n") }, " ✱"));
  const cells = [
    name,
    make("td", { class: "number wider" }, row[OPENS] && row[ROWS] !== null ? number(row[ROWS]) : ""),
    fillCell(entry),
    make("td", {}, row[TYPE]),
    make("td", { class: "number wider" }, row[DISTINCT]),
    make("td", { class: "goes wider" }, ...entry.columns.slice(0, 2).flatMap(([table, column], place) => [place ? ", " : "", tableLink(table, column)]), entry.columns.length > 2 ? " …" : ""),
    make("td", { class: "values" }, [row[KINDS], row[VALUES]].filter(Boolean).join("; ") || row[EXAMPLE]),
  ];
  const siblings = entry.parent ? entry.parent.below : paths.filter((each) => !each.parent);
  const element = make("tr", {
    role: "row", tabindex: "-1", "aria-level": row[DEPTH] + 1, "aria-selected": entry === chosenPath ? "true" : "false",
    "aria-setsize": siblings.length, "aria-posinset": siblings.indexOf(entry) + 1, "aria-expanded": isLeaf ? null : String(entry.isOpen),
    "data-index": entry.index,
  }, ...cells.filter((_, place) => keptHeads[place]));
  entry.element = element;
  return element;
}

let keptHeads = heads.map(() => true);

function visibleEntries() {
  const made = [];
  const visit = (entry) => {
    if (shownPaths && !shownPaths.has(entry)) return;
    made.push(entry);
    if (entry.isOpen || shownPaths) entry.below.forEach(visit);
  };
  paths.filter((entry) => !entry.parent).forEach(visit);
  return made;
}

function drawTree() {
  const body = at("tree-body");
  if (!body) return;
  keptHeads = heads.map(([name]) => name !== "distinct" || paths.some((each) => each.row[DISTINCT]));
  keptHeads[2] = paths.some((each) => share(each) !== null);
  keptHeads[5] = paths.some((each) => each.columns.length);
  keptHeads[1] = paths.some((each) => each.row[OPENS]);
  const shown = visibleEntries();
  treeBody = make("tbody", {}, ...shown.map(rowOf));
  const table = make("table", { class: "tree", role: "treegrid", "aria-label": "Structure" },
    make("thead", {}, make("tr", { role: "row" }, ...heads.map(([name, kind]) => make("th", { scope: "col", class: kind }, name)).filter((_, place) => keptHeads[place]))), treeBody);
  treeBody.addEventListener("click", onTreeClick);
  treeBody.addEventListener("keydown", onTreeKey);
  body.replaceChildren(table);
  const first = (chosenPath && shown.includes(chosenPath) && chosenPath.element) || treeBody.firstElementChild;
  if (first) first.tabIndex = 0;
}

const entryOf = (element) => { const row = element.closest("tr[data-index]"); return row ? paths[Number(row.dataset.index)] : null; };

function onTreeClick(event) {
  if (event.target.closest("a")) return;
  const entry = entryOf(event.target);
  if (!entry) return;
  if (event.target.closest(".twist") && entry.below.length) toggle(entry, !entry.isOpen);
  else { if (entry === chosenPath && entry.below.length) toggle(entry, !entry.isOpen); choosePath(entry, true); }
}

function toggle(entry, isOpen) {
  entry.isOpen = isOpen; drawTree(); focusOn(entry);
}

function focusOn(entry) {
  treeBody.querySelectorAll("tr[tabindex='0']").forEach((row) => { row.tabIndex = -1; });
  if (entry.element) { entry.element.tabIndex = 0; entry.element.focus({ preventScroll: false }); }
}

function onTreeKey(event) {
  const entry = entryOf(event.target), shown = visibleEntries(), place = shown.indexOf(entry);
  if (!entry || event.ctrlKey || event.altKey || event.metaKey) return;
  const steps = { ArrowDown: place + 1, ArrowUp: place - 1, Home: 0, End: shown.length - 1, PageDown: Math.min(place + 20, shown.length - 1), PageUp: Math.max(place - 20, 0) };
  if (event.key in steps) { if (shown[steps[event.key]]) focusOn(shown[steps[event.key]]); }
  else if (event.key === "ArrowRight" && entry.below.length) { if (!entry.isOpen && !shownPaths) toggle(entry, true); else focusOn(entry.below[0]); }
  else if (event.key === "ArrowLeft") { if (entry.isOpen && entry.below.length && !shownPaths) toggle(entry, false); else if (entry.parent) focusOn(entry.parent); }
  else if (event.key === "Enter" || event.key === " ") choosePath(entry, true);
  else return;
  event.preventDefault();
}

function reveal(entry) {
  for (let each = entry.parent; each; each = each.parent) each.isOpen = true;
}

function choosePath(entry, isByHand) {
  chosenPath = entry;
  reveal(entry);
  if (shownPaths && !shownPaths.has(entry)) { shownPaths = null; at("search").value = ""; at("found").textContent = told(); }
  drawTree(); drawDetail(); markBoxes(entry.columns);
  if (isByHand) { history.replaceState(null, "", "#path=" + encodeURIComponent(entry.path)); focusOn(entry); }
  else if (entry.element) entry.element.scrollIntoView({ block: "center" });
}

/* What is known of one path. */
function line(name, ...value) {
  return value.some((each) => each !== "" && each !== null) ? [make("dt", {}, name), make("dd", {}, ...value)] : [];
}

function drawDetail() {
  const box = at("detail"), entry = chosenPath;
  if (!box) return;
  box.hidden = !entry;
  box.parentElement.classList.toggle("chosen", Boolean(entry));
  if (!entry) return;
  const { row } = entry, part = share(entry), place = placeOf(row[SOURCE], row[LINE]);
  const facts = make("dl", {},
    ...line("filled", part === null ? "" : `${number(row[FILLED])} of ${number(row[ROWS])} rows, ${percent(part)}`),
    ...line("type", row[TYPE]), ...line("why", row[WHY]), ...line("kinds", row[KINDS]), ...line("distinct", row[DISTINCT]),
    ...line("values", row[VALUES]), ...line("example", row[EXAMPLE] ? make("code", {}, row[EXAMPLE]) : "", place ? ` (${place})` : ""),
    ...line("goes to", ...entry.columns.flatMap(([table, column], index) => [index ? ", " : "", tableLink(table, column)])));
  if (!entry.columns.length && row[TYPE] && !/object|array/.test(row[TYPE]) && chart.tables && chart.tables.length) facts.append(...line("goes to", "no column: left out"));
  const source = chart.sources[0];
  const buttons = make("span", { class: "buttons" }, copyButton("Copy the path", entry.path));
  if (source) {
    const quoted = `'${source.replaceAll("'", "'\\''")}' '${entry.path.replaceAll("'", "'\\''")}'`;
    buttons.append(copyButton("Copy: find it", "tessaron find " + quoted));
    if (row[DISTINCT]) buttons.append(copyButton("Copy: its values", "tessaron values " + quoted));
  }
  const shut = make("button", { type: "button", class: "shut", "aria-label": "Close", onclick: () => { chosenPath = null; drawTree(); drawDetail(); markBoxes([]); } }, "×");
  box.replaceChildren(shut, make("h3", {}, entry.path), facts,
    ...entry.notes.map((note) => make("p", { class: "note" }, make("b", {}, note[0]), ": ", note[3], make("span", {}, "; ", chart.advice[note[0]]))), buttons);
  if (typeof drawChoices === "function") drawChoices(box, entry);
}

/* Search as one types: by path, type, value and note, in columns too. */
function textOf(entry) {
  if (entry.text === undefined) {
    entry.text = [entry.path, entry.row[TYPE], entry.row[KINDS], entry.row[VALUES], entry.row[EXAMPLE], entry.row[WHY],
      ...entry.columns.map((pair) => pair.join(".")), ...entry.notes.map((note) => note[0] + " " + note[3])].join("\n").toLowerCase();
  }
  return entry.text;
}

const told = () => number(paths.length) + (paths.length === 1 ? " path" : " paths") + (chart.more ? `; ${number(chart.more)} more are not on this page` : "");

function search(text) {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  if (!words.length) { shownPaths = null; at("found").textContent = told(); drawTree(); return; }
  const found = paths.filter((entry) => words.every((word) => textOf(entry).includes(word)));
  shownPaths = new Set(found);
  for (const entry of found) for (let each = entry.parent; each && !shownPaths.has(each); each = each.parent) shownPaths.add(each);
  at("found").textContent = found.length ? `${number(found.length)} of ${told()}` : `none of ${told()} has this`;
  drawTree();
}

/* Notes, by what they say; those that hurt most come first. */
const noteOrder = ["rejected", "nothing there", "duplicate names", "mixed kinds", "value or object", "value or array", "almost unique", "unique where filled", "not all alike"];

function drawNotes() {
  const body = at("notes-body");
  if (!body) return;
  const groups = new Map();
  for (const note of chart.notes) (groups.get(note[0]) || groups.set(note[0], []).get(note[0])).push(note);
  const ranked = [...groups].map(([code, notes], place) => [noteOrder.includes(code) ? noteOrder.indexOf(code) : 100 + place, code, notes]).sort((a, b) => a[0] - b[0]);
  body.replaceChildren(...ranked.map(([, code, notes]) => {
    const list = make("ul", {}), most = 6;
    const add = (from, to) => notes.slice(from, to).forEach((note) => {
      const entry = paths[note[1]];
      const text = note[3].startsWith(code + ": ") ? note[3].slice(code.length + 2) : note[3];
      const place = placeOf(note[6], note[7]);
      list.append(make("li", {}, entry ? pathLink(entry) : make("span", { class: "path" }, note[2]), " ", text, note[5] ? make("span", {}, "; e.g. ", make("code", {}, note[5]), place ? ` (${place})` : "") : ""));
    });
    add(0, most);
    const group = make("div", { class: "group" }, make("h3", {}, `${code}, ${number(notes.length)} ${notes.length === 1 ? "path" : "paths"}`), chart.advice[code] ? make("p", {}, chart.advice[code]) : "", list);
    if (notes.length > most) {
      const button = make("button", { type: "button", onclick: () => { add(most); button.remove(); } }, `Show ${number(notes.length - most)} more`);
      group.append(button);
    }
    return group;
  }));
}

/* The diagram: zoom, drag, choose. */
let zoom = 1;

function setZoom(value, aim) {
  const box = at("chart"), svg = box.querySelector("svg");
  if (!svg) return;
  const [, , width, height] = svg.getAttribute("viewBox").split(" ").map(Number);
  const before = zoom;
  zoom = Math.min(3, Math.max(0.15, value));
  const x = aim ? aim.x : box.clientWidth / 2, y = aim ? aim.y : box.clientHeight / 2;
  const left = (box.scrollLeft + x) * zoom / before - x, top = (box.scrollTop + y) * zoom / before - y;
  svg.setAttribute("width", width * zoom); svg.setAttribute("height", height * zoom);
  box.scrollLeft = left; box.scrollTop = top;
}

function fitZoom() {
  const box = at("chart"), svg = box.querySelector("svg");
  if (!svg) return 1;
  const [, , width, height] = svg.getAttribute("viewBox").split(" ").map(Number);
  const whole = Math.min(box.clientWidth / width, window.innerHeight * 0.76 / height);
  return Math.min(1, whole > 0.55 ? whole : Math.max(0.6, box.clientWidth / width));
}

function markBoxes(columns) {
  const box = at("chart");
  if (!box) return;
  const tables = new Set(columns.map(([table]) => table)), names = new Set(columns.map((pair) => pair.join("\n")));
  box.querySelectorAll(".box").forEach((each) => {
    each.classList.toggle("chosen", tables.has(each.dataset.table));
    each.querySelectorAll("[data-column]").forEach((column) => column.classList.toggle("chosen", names.has(each.dataset.table + "\n" + column.dataset.column)));
  });
  box.querySelectorAll("g.link").forEach((each) => each.classList.toggle("chosen", tables.has(each.dataset.one) || tables.has(each.dataset.many)));
}

function chooseTable(name, column, isByHand) {
  const table = chart.tables.find((each) => each.name === name), box = at("table-detail");
  if (!table || !box) return;
  markBoxes(table.columns.map((each) => [name, column === each[0] || !column ? each[0] : ""]));
  const rows = table.columns.map((each) => {
    const entry = paths[each[3]];
    const fill = each[5] === null || table.rows === null ? "" : number(each[5]);
    return make("tr", {}, make("td", {}, column === each[0] ? make("b", {}, each[0]) : each[0]), make("td", {}, each[1]),
      make("td", {}, entry ? pathLink(entry) : each[2] === "key" ? "key" : each[2]), make("td", { class: "number" }, fill), make("td", {}, each[4]));
  });
  const titles = ["column", "type", "path", "values", "note"];
  for (const place of [4, 3]) {
    if (rows.some((row) => row.children[place].textContent)) continue;
    titles.splice(place, 1); rows.forEach((row) => row.children[place].remove());
  }
  const shut = make("button", { type: "button", class: "shut", "aria-label": "Close", onclick: () => { box.hidden = true; markBoxes([]); } }, "×");
  box.hidden = false;
  box.replaceChildren(shut, make("h3", {}, name), table.why ? make("p", { class: "told" }, table.why, table.otherwise ? `; ${table.otherwise}` : "") : "",
    make("div", { class: "wide", tabindex: "0", role: "region", "aria-label": "Columns of " + name }, make("table", { class: "grid" },
      make("thead", {}, make("tr", {}, ...titles.map((title) => make("th", { scope: "col", class: title === "values" ? "number" : null }, title)))), make("tbody", {}, ...rows))),
    make("span", { class: "buttons" }, copyButton("Copy the name", name)));
  if (typeof drawTableChoices === "function") drawTableChoices(box, table);
  const drawn = at("chart").querySelector(`.box[data-table="${CSS.escape(name)}"]`);
  if (isByHand) history.replaceState(null, "", "#table=" + encodeURIComponent(name));
  else if (drawn) { at("diagram").scrollIntoView(); const place = drawn.getBoundingClientRect(), frame = at("chart").getBoundingClientRect(); at("chart").scrollLeft += place.left - frame.left - 40; at("chart").scrollTop += place.top - frame.top - 40; }
}

function drawDiagram() {
  const box = at("chart");
  if (!box) return;
  const tables = chart.tables, columns = tables.reduce((sum, table) => sum + table.columns.length, 0);
  at("diagram-told").textContent = `${number(tables.length)} ${tables.length === 1 ? "table" : "tables"}, ${number(columns)} columns with keys` + (chart.folded ? "; so many that only names are drawn: choose one to see its columns" : "");
  box.querySelector("svg").setAttribute("role", "group");
  for (const each of box.querySelectorAll(".box")) {
    each.setAttribute("tabindex", "0"); each.setAttribute("role", "button");
    each.setAttribute("aria-label", "Table " + each.dataset.table);
  }
  setZoom(fitZoom());
  const first = box.querySelector(".box").getBoundingClientRect(), frame = box.getBoundingClientRect();
  box.scrollLeft = 0;
  box.scrollTop += Math.max(0, first.top + first.height / 2 - frame.top - box.clientHeight / 2);
}

function watchDiagram() {
  const box = at("chart");
  if (!box) return;
  const chosen = (target) => { const each = target.closest(".box"); if (each) { const column = target.closest("[data-column]"); chooseTable(each.dataset.table, column ? column.dataset.column : "", true); } };
  let start = null, hasMoved = false;
  box.addEventListener("pointerdown", (event) => { if (event.pointerType === "mouse" && event.button === 0) { start = [event.clientX, event.clientY, box.scrollLeft, box.scrollTop]; hasMoved = false; } });
  window.addEventListener("pointermove", (event) => {
    if (!start) return;
    const [x, y, left, top] = start;
    if (Math.abs(event.clientX - x) + Math.abs(event.clientY - y) > 4) { hasMoved = true; box.classList.add("dragged"); }
    if (hasMoved) { box.scrollLeft = left + x - event.clientX; box.scrollTop = top + y - event.clientY; }
  });
  window.addEventListener("pointerup", () => { start = null; box.classList.remove("dragged"); });
  box.addEventListener("click", (event) => { if (!hasMoved) chosen(event.target); });
  box.addEventListener("keydown", (event) => {
    if ((event.key === "Enter" || event.key === " ") && event.target.closest(".box")) { chosen(event.target); event.preventDefault(); }
    else if (event.key === "+" || event.key === "=") setZoom(zoom * 1.25);
    else if (event.key === "-") setZoom(zoom / 1.25);
  });
  box.addEventListener("wheel", (event) => {
    if (!event.ctrlKey) return;
    event.preventDefault();
    const frame = box.getBoundingClientRect();
    setZoom(zoom * (event.deltaY < 0 ? 1.15 : 1 / 1.15), { x: event.clientX - frame.left, y: event.clientY - frame.top });
  }, { passive: false });
  const steps = { in: () => zoom * 1.25, out: () => zoom / 1.25, width: fitZoom, full: () => 1 };
  document.querySelectorAll("[data-zoom]").forEach((button) => button.addEventListener("click", () => setZoom(steps[button.dataset.zoom]())));
}

/* First rows. */
function drawRows() {
  const body = at("rows-body");
  if (!body) return;
  const many = chart.tables.filter((table) => table.first.length);
  body.replaceChildren(...many.map((table, place) => {
    const numeric = table.columns.map((column) => /^(integer|decimal|double)/.test(column[1]));
    const fill = () => {
      if (box.childElementCount > 1) return;
      const head = table.columns.map((column, index) => make("th", { scope: "col", class: numeric[index] ? "number" : null }, column[0], make("small", {}, column[1])));
      const rows = table.first.map((row) => make("tr", {}, ...row.map((cell, index) => make("td", { class: cell === null ? "null" : numeric[index] ? "number" : null }, cell === null ? "null" : cell))));
      box.append(make("div", { class: "wide", tabindex: "0", role: "region", "aria-label": "First rows of " + table.name }, make("table", { class: "grid" }, make("thead", {}, make("tr", {}, ...head)), make("tbody", {}, ...rows))));
    };
    const total = table.rows === null ? "" : ` of ${number(table.rows)}`;
    const box = make("details", { class: "first" }, make("summary", {}, `${table.name} (${number(table.first.length)}${total} rows)`));
    box.addEventListener("toggle", fill);
    if (place < 8) { box.open = true; fill(); }
    return box;
  }));
}

/* Links to places of the page. */
function follow() {
  const [, kind, value] = location.hash.match(/^#(path|table)=(.*)$/) || [];
  if (!kind) return;
  const [name, column] = value.split("&column=").map(decodeURIComponent);
  if (kind === "path" && byPath.has(name)) choosePath(byPath.get(name), false);
  if (kind === "table") chooseTable(name, column, false);
}

function drawAll() {
  readPaths();
  for (const entry of paths) entry.isOpen = paths.length <= 150 || entry.row[DEPTH] < 1;
  if (at("found")) at("found").textContent = told();
  drawNotes(); drawTree(); drawDiagram(); drawRows();
}

function begin() {
  drawAll(); watchDiagram();
  const field = at("search");
  if (field) {
    field.addEventListener("input", () => search(field.value));
    at("open-all").addEventListener("click", () => { paths.forEach((entry) => { entry.isOpen = true; }); drawTree(); });
    at("close-all").addEventListener("click", () => { paths.forEach((entry) => { entry.isOpen = false; }); drawTree(); });
    document.addEventListener("keydown", (event) => {
      if (event.key === "/" && !/^(INPUT|TEXTAREA|SELECT)$/.test(document.activeElement.tagName)) { field.focus(); field.select(); event.preventDefault(); }
      if (event.key === "Escape" && document.activeElement === field) { field.value = ""; search(""); }
    });
  }
  document.querySelectorAll("[data-copy]").forEach((button) => button.addEventListener("click", () => copy(button.dataset.copy)));
  document.querySelectorAll("a[data-path]").forEach((link) => { if (!byPath.has(link.dataset.path)) link.replaceWith(make("span", { class: "path" }, link.textContent)); });
  document.querySelectorAll("a[data-table]").forEach((link) => { if (!(chart.tables || []).some((each) => each.name === link.dataset.table)) link.replaceWith(link.textContent); });
  at("light").addEventListener("click", () => {
    const root = document.documentElement;
    const isNight = root.dataset.light ? root.dataset.light === "night" : matchMedia("(prefers-color-scheme: dark)").matches;
    root.dataset.light = isNight ? "day" : "night";
  });
  window.addEventListener("hashchange", follow);
  follow();
}

/* Much data is packed (deflate, RFC 1951); browsers unpack it themselves. */
async function readData() {
  const element = at("data");
  if (element.dataset.packed === undefined) return JSON.parse(element.textContent);
  const bytes = Uint8Array.from(atob(element.textContent), (letter) => letter.charCodeAt(0));
  return new Response(new Blob([bytes]).stream().pipeThrough(new DecompressionStream("deflate-raw"))).json();
}

readData().then((data) => { chart = data; if (typeof beginLive === "function") live = chart.live; begin(); if (typeof beginLive === "function") beginLive(); document.documentElement.dataset.ready = "yes"; });
