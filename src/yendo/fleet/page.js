"use strict";
// Shows a table of many computers: only the rows that are in sight are in the page.
(() => {
  const data = JSON.parse(document.getElementById("data").textContent);
  const names = data.names;
  const HEIGHT = 24, count = data.computer.length;
  const word = (row, column) => data.words[column] ? data.words[column][data[column][row]] : data[column][row];
  // what is asked for is looked up once for each different word, and names by themselves
  let shown = Array.from({ length: count }, (_, at) => at), here = 0, sorted = "computer", down = false;
  const rows = document.getElementById("rows"), room = document.getElementById("room");
  const list = document.getElementById("list"), told = document.getElementById("count");
  const collator = new Intl.Collator(undefined, { numeric: true });

  function line(at) {
    const row = document.createElement("div");
    row.className = "row" + (at === here ? " here" : "");
    row.style.top = at * HEIGHT + "px";
    row.setAttribute("role", "row");
    row.setAttribute("aria-rowindex", at + 1);
    for (const name of names) {
      const cell = document.createElement("span");
      cell.setAttribute("role", "gridcell");
      const text = word(shown[at], name);
      cell.textContent = text;
      if (name === "why") cell.title = text;
      if (name === "state") cell.className = text + "-word";
      row.append(cell);
    }
    return row;
  }

  function draw() {
    const first = Math.max(0, Math.floor(rows.scrollTop / HEIGHT) - 5);
    const last = Math.min(shown.length, first + Math.ceil(rows.clientHeight / HEIGHT) + 10);
    room.style.height = shown.length * HEIGHT + "px";
    room.replaceChildren(...Array.from({ length: last - first }, (_, at) => line(first + at)));
    told.textContent = shown.length === count ? `${count.toLocaleString()} computers`
      : `${shown.length.toLocaleString()} of ${count.toLocaleString()}`;
    list.setAttribute("aria-rowcount", shown.length);
  }

  function choose() {
    const wanted = document.getElementById("find").value.trim().toLowerCase();
    const hits = {};
    for (const name of Object.keys(data.words)) {
      hits[name] = data.words[name].map((text) => text.toLowerCase().includes(wanted));
    }
    const columns = Object.entries(hits).map(([name, found]) => [data[name], found]);
    shown = [];
    for (let at = 0; at < count; at++) {
      if (!wanted || columns.some(([column, found]) => found[column[at]])
        || data.computer[at].toLowerCase().includes(wanted)) shown.push(at);
    }
    order();
    here = 0;
    rows.scrollTop = 0;
    draw();
  }

  function order() {
    if (sorted === "computer" && !down) { shown.sort((a, b) => a - b); return; }
    const ranks = data.words[sorted] && data.words[sorted].map((text, at) => [text, at])
      .sort((a, b) => collator.compare(a[0], b[0])).reduce((all, [, at], rank) => { all[at] = rank; return all; }, []);
    const key = ranks ? (at) => ranks[data[sorted][at]] : sorted === "computer" ? (at) => at : (at) => data[sorted][at];
    shown.sort((a, b) => { const x = key(a), y = key(b); return (x < y ? -1 : x > y ? 1 : a - b) * (down ? -1 : 1); });
  }

  const head = document.getElementById("head");
  list.style.setProperty("--columns", `160px repeat(${names.length - 2}, 130px) 1fr`);
  for (const name of names) {
    const cell = document.createElement("span"), button = document.createElement("button");
    cell.setAttribute("role", "columnheader");
    button.type = "button";
    button.textContent = name;
    button.addEventListener("click", () => {
      down = sorted === name && !down;
      sorted = name;
      for (const one of head.children) one.removeAttribute("aria-sort");
      cell.setAttribute("aria-sort", down ? "descending" : "ascending");
      order();
      draw();
    });
    cell.append(button);
    head.append(cell);
  }

  let waits = 0;
  document.getElementById("find").addEventListener("input", () => { clearTimeout(waits); waits = setTimeout(choose, 80); });
  rows.addEventListener("scroll", () => requestAnimationFrame(draw));
  list.addEventListener("keydown", (event) => {
    const page = Math.floor(rows.clientHeight / HEIGHT) - 1;
    const steps = { ArrowDown: 1, ArrowUp: -1, PageDown: page, PageUp: -page, Home: -count, End: count };
    if (!(event.key in steps) || event.target.tagName === "BUTTON") return;
    event.preventDefault();
    here = Math.max(0, Math.min(shown.length - 1, here + steps[event.key]));
    const top = here * HEIGHT;
    if (top < rows.scrollTop) rows.scrollTop = top;
    if (top + HEIGHT > rows.scrollTop + rows.clientHeight) rows.scrollTop = top + HEIGHT - rows.clientHeight;
    draw();
  });
  draw();
  document.documentElement.dataset.ready = "yes";
})();
