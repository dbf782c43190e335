/* Choosing: each choice goes to the server, which answers with the layout and what it makes of the sample. */
let isEditing = false, live = null;

async function choose(choice) {
  const answer = await fetch("choose", { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(choice) })
    .then(async (found) => ({ isDone: found.ok, ...(await found.json()) }))
    .catch(() => ({ isDone: false, error: "the command that serves this page has stopped; what was not saved is lost" }));
  if (!answer.isDone) { drawLive(answer.error); return false; }
  take(answer);
  return true;
}

function take(state) {
  live = { ...live, ...state };
  chart.tables = live.tables; chart.folded = live.folded;
  const opened = new Set(paths.filter((entry) => entry.isOpen).map((entry) => entry.path)), chosen = chosenPath && chosenPath.path;
  const where = at("chart") ? [at("chart").scrollLeft, at("chart").scrollTop, zoom] : null;
  const frame = at("chart");
  if (frame) frame.innerHTML = live.diagram;
  readPaths();
  for (const entry of paths) entry.isOpen = opened.has(entry.path);
  chosenPath = chosen ? byPath.get(chosen) : null;
  if (at("search") && at("search").value) search(at("search").value); else drawTree();
  drawDetail(); drawDiagram(); drawRows();
  if (where) { zoom = 1; setZoom(where[2]); [frame.scrollLeft, frame.scrollTop] = where; }
  if (at("table-detail") && !at("table-detail").hidden) {
    const name = at("table-detail").dataset.table, still = chart.tables.some((each) => each.name === name);
    if (still) chooseTable(name, "", true); else at("table-detail").hidden = true;
  }
  isEditing = false;
  drawLive("");
}

function drawLive(trouble) {
  const box = at("live");
  const button = (label, choice, more) => make("button", { type: "button", onclick: () => choose(choice), ...more }, label);
  const bar = make("div", { class: "bar" },
    button("Save", { do: "save" }, { class: "primary", disabled: live.saved, id: "save" }),
    button("Take back", { do: "take back" }, { disabled: !live.steps, id: "take-back" }),
    button("Make again", { do: "make again" }),
    make("span", { class: "state", role: "status" }, live.saved ? `saved in ${live.file}` : `not saved; ${number(live.steps)} ${live.steps === 1 ? "choice" : "choices"}`));
  const told = live.left ? make("p", { class: "told" }, `In these records ${number(live.left)} values have no column.`) : "";
  const problems = live.problems.length ? make("ul", {}, ...live.problems.map((each) => make("li", {}, each))) : "";
  let text;
  if (isEditing) {
    const area = make("textarea", { "aria-label": "The text of the layout", spellcheck: "false" });
    area.value = isEditing === true ? live.text : isEditing;
    area.addEventListener("input", () => { isEditing = area.value; });
    text = make("div", {}, area, make("div", { class: "bar" },
      make("button", { type: "button", class: "primary", onclick: () => choose({ do: "text", text: area.value }) }, "Use this text"),
      make("button", { type: "button", onclick: () => { isEditing = false; drawLive(""); } }, "Leave it")));
  } else {
    const lines = live.text.split("\n").map((each, place) => make("span", { class: live.changed.includes(place) ? "changed" : null }, each));
    text = make("pre", { tabindex: "0", role: "region", "aria-label": "The layout" }, ...lines);
    bar.append(make("button", { type: "button", onclick: () => { isEditing = true; drawLive(""); } }, "Edit the text"));
  }
  box.replaceChildren(make("h2", {}, "Layout"), bar, trouble ? make("p", { class: "trouble", role: "alert" }, trouble) : "", told, problems, text);
  const changed = box.querySelector(".changed");
  if (changed) { const frame = changed.parentElement; frame.scrollTop = changed.offsetTop - frame.offsetTop - 60; }
}

/* A small form: one field and a button. */
function ask(label, value, buttonText, send, given) {
  const id = "ask-" + label.replace(/\W+/g, "-") + "-" + ask.count++;
  const field = make("input", { id, autocomplete: "off", spellcheck: "false", ...given });
  field.value = value;
  const form = make("form", {}, make("label", { for: id }, label), field, make("button", { type: "submit" }, buttonText));
  form.addEventListener("submit", (event) => { event.preventDefault(); send(field.value); });
  return form;
}
ask.count = 0;

function pick(label, values, buttonText, send) {
  const id = "pick-" + label.replace(/\W+/g, "-") + "-" + ask.count++;
  const field = make("select", { id }, ...values.map((each) => make("option", {}, each)));
  const form = make("form", {}, make("label", { for: id }, label), field, make("button", { type: "submit" }, buttonText));
  form.addEventListener("submit", (event) => { event.preventDefault(); send(field.value); });
  return form;
}

const act = (label, choice) => make("button", { type: "button", onclick: () => choose(choice) }, label);
const isAround = (path, rows) => rows === path || rows.startsWith(path + "[") || rows.startsWith(path + ".") || rows.startsWith(path + "/");

/* The choices for one path: of its columns, or of what stands below it. */
function drawChoices(box, entry) {
  const made = make("div", { class: "choices" });
  for (const [table, column] of entry.columns) {
    const known = chart.tables.find((each) => each.name === table).columns.find((each) => each[0] === column);
    made.append(make("h3", {}, table + "." + column),
      ask("name", column, "Rename", (to) => choose({ do: "rename", table, column, to })),
      ask("type", known[1], "Set", (type) => choose({ do: "type", table, column, type }), { list: "types" }));
    const above = tablesAbove(table);
    if (above.length) {
      const fold = pick("fold", live.folds, "Fold", (value) => choose({ do: "fold", table, column, fold: value, into: fold.into.value }));
      fold.into = make("select", { "aria-label": "into the table" }, ...above.map((each) => make("option", {}, each)));
      fold.insertBefore(make("span", {}, "into"), fold.lastChild); fold.insertBefore(fold.into, fold.lastChild);
      made.append(fold);
    }
    made.append(make("div", { class: "choice" }, act("Leave out", { do: "leave_out", table, column })));
  }
  const drafted = live.draft.columns[entry.index] || [];
  if (!entry.columns.length && drafted.length) {
    made.append(make("div", { class: "choice" }, ...drafted.map(([table, column]) => act("Take in", { do: "take_in", table, column }))));
  }
  if (entry.below.length && entry.row[DEPTH]) drawStructureChoices(made, entry);
  if (!at("types")) document.body.append(make("datalist", { id: "types" }, ...live.types.map((each) => make("option", {}, each))));
  if (made.childElementCount) box.append(made);
}

function drawStructureChoices(made, entry) {
  const row = make("div", { class: "choice" }), path = entry.path.replace(/(\[\*\]|\.\*)$/, "");
  const current = chart.tables.filter((each) => each.path && isAround(path, each.path));
  const gone = Object.entries(live.draft.rows).filter(([, rows]) => rows && isAround(path, rows) && !chart.tables.some((each) => each.path === rows));
  const inside = columnsBelow(entry);
  if (current.length) row.append(act("Keep as one column", { do: "as_json", table: current[0].name }));
  else if (inside) row.append(act("Keep as one column", { do: "as_json", table: inside, path: entry.path }));
  if (gone.length) row.append(act("Make tables of it again", { do: "as_tables", path }));
  if (row.childElementCount) made.append(row);
}

/* The table that has columns of an object's members. */
function columnsBelow(entry) {
  for (const each of entry.below) {
    if (each.row[OPENS]) continue;
    if (each.columns.length) return each.columns[0][0];
    const found = columnsBelow(each);
    if (found) return found;
  }
  return null;
}

function tablesAbove(name) {
  const own = chart.tables.find((each) => each.name === name);
  if (!own || !own.path) return [];
  return chart.tables.filter((each) => each.name !== name && each.path && (each.path === "$" || each.path === "." || (each.path !== own.path && isAround(each.path, own.path)))).map((each) => each.name).reverse();
}

/* The choices for one table. */
function drawTableChoices(box, table) {
  box.dataset.table = table.name;
  const name = table.name;
  box.append(make("div", { class: "choices" },
    ask("name", name, "Rename", async (to) => { if (await choose({ do: "rename", table: name, to })) chooseTable(to, "", true); }),
    ask("rows where", live.filters[name] || "", "Filter", (keep) => choose({ do: "keep", table: name, keep }), { placeholder: "an expression, such as status != 'cancelled'" }),
    ask("key", live.keys[name] || "", "Set", (key) => choose({ do: "key", table: name, key }), { placeholder: "columns that say which row it is" }),
    make("div", { class: "choice" }, act("Leave this table out", { do: "leave_table_out", table: name }),
      act("Make one flat table of it, with all above it", { do: "flatten", table: name }))));
}

function beginLive() {
  take(live);
  const watch = new EventSource("watch");
  watch.onerror = () => { if (watch.readyState === EventSource.CLOSED) drawLive("the command that serves this page has stopped"); };
  addEventListener("beforeunload", (event) => { if (!live.saved && live.steps) event.preventDefault(); });
}
