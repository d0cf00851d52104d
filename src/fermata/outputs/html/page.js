"use strict";
(() => {
  const SCREEN = 200;
  const marks = JSON.parse(document.getElementById("marks").textContent);
  const words = new Intl.Collator(undefined, { numeric: true, sensitivity: "base" });
  const counted = (n, what) => `${n.toLocaleString("en")} ${what}${n === 1 ? "" : "s"}`;
  const made = (tag, text, kind) => {
    const node = document.createElement(tag);
    if (text !== undefined) node.textContent = text;
    if (kind) node.className = kind;
    return node;
  };

  async function unpacked(text) {
    const bytes = Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
    const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream("gzip"));
    return JSON.parse(await new Response(stream).text());
  }

  // What a text is sorted by: figures as numbers, lengths in seconds, times in their order; what is empty comes last.
  function key(text, kind) {
    if (text === "") return null;
    if (kind === "time") {
      const [date, ...clock] = text.split(" ");
      const p = date.split(/[-/]/);
      const ordered = marks.dates === "year first" ? p : marks.dates === "day first" ? [p[2], p[1], p[0]] : [p[2], p[0], p[1]];
      let at = clock.join(" ");
      const half = /^(\d+)(:.*) ([ap])m$/.exec(at);
      if (half) at = String((Number(half[1]) % 12) + (half[3] === "p" ? 12 : 0)).padStart(2, "0") + half[2];
      return `${ordered.join("-")} ${at}`;
    }
    if (["text", "link", "tags", "flag"].includes(kind)) return text;
    let plain = text.replace(/[ %]/g, "");
    plain = marks.comma ? plain.replaceAll(".", "").replace(",", ".") : plain.replaceAll(",", "");
    const parts = plain.replace("-", "").split(":").map(Number);
    const size = parts.length === 1 ? parts[0] : parts[0] * 3600 + parts[1] * 60 + (parts[2] || 0);
    return plain.startsWith("-") ? -size : size;
  }
  function order(a, b, down) {
    if (a === null || b === null) return (a === null) - (b === null);
    const found = typeof a === "number" && typeof b === "number" ? a - b : words.compare(String(a), String(b));
    return down ? -found : found;
  }

  // The header's buttons: upwards, downwards, as it was.
  function sortable(table, sorted) {
    const heads = [...table.querySelectorAll("thead tr:last-child th")];
    heads.forEach((head, column) => {
      head.querySelector("button")?.addEventListener("click", () => {
        const way = { ascending: "descending", descending: null }[head.getAttribute("aria-sort")];
        heads.forEach((h) => h.removeAttribute("aria-sort"));
        const next = way === undefined ? "ascending" : way;
        if (next) head.setAttribute("aria-sort", next);
        sorted(next ? column : -1, next === "descending", head.dataset.kind);
      });
    });
    return heads;
  }

  // A table that stands in the page.
  function whole(section) {
    const table = section.querySelector("table");
    const bodies = [...table.tBodies];
    const rows = bodies.map((b) => [...b.rows]);
    const total = Number(section.dataset.rows);
    const said = section.querySelector("output");
    const text = (row, column) => row.cells[column].textContent;
    sortable(table, (column, down, kind) => {
      rows.forEach((own, n) => {
        const head = own[0]?.classList.contains("group") ? own.slice(0, 1) : [];
        let rest = own.slice(head.length);
        if (column >= 0) rest = rest.map((r) => [key(text(r, column), kind), r]).sort((a, b) => order(a[0], b[0], down)).map((p) => p[1]);
        bodies[n].append(...head, ...rest);
      });
      const lead = (n) => key(text(rows[n][0], column), kind);
      const groups = bodies.map((_, n) => n);
      if (column >= 0) groups.sort((a, b) => order(lead(a), lead(b), down));
      const foot = table.tFoot;
      for (const n of groups) table.insertBefore(bodies[n], foot);
    });
    const shut = (body, closed) => {
      const toggle = body.querySelector(".toggle");
      if (!toggle) return;
      body.classList.toggle("shut", closed);
      toggle.setAttribute("aria-expanded", String(!closed));
    };
    bodies.forEach((body) => body.querySelector(".toggle")?.addEventListener("click", () => shut(body, !body.classList.contains("shut"))));
    section.querySelector(".tools .open")?.addEventListener("click", () => bodies.forEach((b) => shut(b, false)));
    section.querySelector(".tools .close")?.addEventListener("click", () => bodies.forEach((b) => shut(b, true)));
    section.querySelector("input").addEventListener("input", (event) => {
      const wanted = event.target.value.trim().toLowerCase();
      let left = 0;
      bodies.forEach((body, n) => {
        const name = body.querySelector(".group th")?.textContent.toLowerCase() ?? "";
        let here = 0;
        for (const row of rows[n]) {
          if (row.classList.contains("group")) continue;
          const fits = !wanted || name.includes(wanted) || row.textContent.toLowerCase().includes(wanted);
          row.hidden = !fits;
          here += fits;
        }
        body.hidden = here === 0;
        left += here;
        if (wanted && here) shut(body, false);
      });
      said.textContent = wanted ? `${counted(left, "row")} shown; totals are of all ${total.toLocaleString("en")}` : "";
    });
  }

  // Rows kept as columns, set out a screen at a time.
  function screens(box, heads, columns, count, put) {
    const body = box.querySelector("tbody");
    const said = box.querySelector("output");
    const pager = box.querySelector(".pager");
    const [back, on] = pager.querySelectorAll("button");
    let rows = null;
    let at = 0;
    const length = () => (rows ? rows.length : count);
    const show = () => {
      const shown = [];
      for (let i = at; i < Math.min(at + SCREEN, length()); i++) shown.push(put(rows ? rows[i] : i));
      body.replaceChildren(...shown);
      back.disabled = at === 0;
      on.disabled = at + SCREEN >= length();
      pager.hidden = length() <= SCREEN;
      const all = length() < count ? ` of all ${count.toLocaleString("en")}` : "";
      said.textContent = length() ? `${(at + 1).toLocaleString("en")} to ${Math.min(at + SCREEN, length()).toLocaleString("en")} of ${counted(length(), "row")}${all}` : `no rows${all}`;
    };
    back.onclick = () => { at = Math.max(at - SCREEN, 0); show(); };
    on.onclick = () => { at += SCREEN; show(); };
    return { choose(picked) { rows = picked; at = 0; show(); } };
  }

  function long(section) {
    const table = section.querySelector("table");
    const kinds = [...table.querySelectorAll("thead tr:last-child th")];
    const count = Number(section.dataset.rows);
    const columns = kinds.map(() => ({ d: [], i: new Int32Array(count) }));
    const said = section.querySelector("output");
    let ready = null;
    let wanted = "";
    let sorting = [-1, false, ""];
    async function load() {
      said.textContent = "reading the rows ...";
      let done = 0;
      const places = columns.map(() => new Map());
      for (const chunk of section.querySelectorAll("script.chunk")) {
        const data = await unpacked(chunk.textContent);
        data.c.forEach((coded, n) => {
          const known = coded.d.map((text) => {
            if (!places[n].has(text)) { places[n].set(text, columns[n].d.length); columns[n].d.push(text); }
            return places[n].get(text);
          });
          coded.i.forEach((which, row) => { columns[n].i[done + row] = known[which]; });
        });
        done += data.n;
      }
      return screens(section, kinds, columns, count, (row) => {
        const line = made("tr");
        columns.forEach((c, n) => line.append(cell(c.d[c.i[row]], !kinds[n].classList.contains("n"), kinds[n].dataset.kind === "link")));
        return line;
      });
    }
    async function again() {
      ready ??= load();
      const view = await ready;
      let rows = Array.from({ length: count }, (_, n) => n);
      if (wanted) {
        const fits = columns.map((c) => c.d.map((text) => text.toLowerCase().includes(wanted)));
        rows = rows.filter((row) => columns.some((c, n) => fits[n][c.i[row]]));
      }
      const [column, down, kind] = sorting;
      if (column >= 0) {
        const keys = columns[column].d.map((text) => key(text, kind));
        const places = keys.map((_, n) => n).sort((a, b) => order(keys[a], keys[b], down));
        const rank = new Int32Array(places.length);
        places.forEach((which, n) => { rank[which] = n; });
        rows.sort((a, b) => rank[columns[column].i[a]] - rank[columns[column].i[b]] || a - b);
      }
      view.choose(rows);
    }
    sortable(table, (...how) => { sorting = how; again(); });
    section.querySelector("input").addEventListener("input", (event) => { wanted = event.target.value.trim().toLowerCase(); again(); });
    const [back, on] = section.querySelectorAll(".pager button");
    back.disabled = true;
    on.onclick = async () => { await again(); on.click(); };
    said.textContent = `the first ${table.tBodies[0].rows.length} of ${counted(count, "row")}`;
  }

  function cell(text, left, link) {
    const node = made("td", undefined, left ? "" : "n");
    if (link && /^https:\/\/[^\s"'<>]+$/.test(text)) {
      const to = made("a", text);
      to.href = text;
      to.rel = "noopener noreferrer";
      to.target = "_blank";
      node.append(to);
    } else node.textContent = text;
    return node;
  }

  // From a figure to its events.
  const dialog = document.querySelector("dialog");
  dialog.querySelector(".shut").addEventListener("click", () => dialog.close());
  async function follow(section, button) {
    const source = section.querySelector("script.events");
    section.held ??= "packed" in source.dataset ? unpacked(source.textContent) : Promise.resolve(JSON.parse(source.textContent));
    const data = await section.held;
    const [which, events, brought] = data.figures[Number(button.dataset.f)];
    const log = data.logs[which];
    const row = button.closest("tr");
    const heads = [...section.querySelectorAll("thead tr:last-child th")];
    const name = (section.querySelectorAll("thead tr:last-child th button")[button.closest("td").cellIndex]?.getAttribute("aria-label") ?? "").replace(/, sort$/, "");
    const group = [row.closest("tbody")?.querySelector(".group th")?.textContent ?? ""];
    for (const c of row.cells) if (!c.classList.contains("n") && !c.querySelector(".f")) group.push(c.textContent);
    dialog.querySelector("h2").textContent = `${name} ${button.textContent}: ${[...new Set(group.filter(Boolean))].join(", ") || "all"}`;
    const head = made("tr");
    for (const [text, left] of [...log.heads, ["Brings", false]]) {
      const th = made("th", text, left ? "" : "n");
      th.scope = "col";
      head.append(th);
    }
    dialog.querySelector("thead").replaceChildren(head);
    const view = screens(dialog, heads, log.c, events.length, (n) => {
      const line = made("tr");
      log.c.forEach((c, i) => line.append(cell(c.d[c.i[events[n]]], log.heads[i][1], log.heads[i][2])));
      line.append(cell(brought.d[brought.i[n]], false, false));
      return line;
    });
    view.choose(null);
    dialog.showModal();
  }

  for (const section of document.querySelectorAll("section")) {
    const tools = section.querySelector(".tools");
    if (!tools) continue;
    tools.hidden = false;
    (section.querySelector("script.chunk") ? long : whole)(section);
    section.addEventListener("click", (event) => {
      const button = event.target.closest("button.f");
      if (button) follow(section, button);
    });
  }
})();
