"use strict";
(() => {
  const d = JSON.parse(document.getElementById("data").textContent);
  const $ = id => document.getElementById(id);
  const node = (tag, cls, text) => { const n = document.createElement(tag); if (cls) n.className = cls; if (text !== undefined) n.textContent = text; return n; };
  const rowHeight = 31;
  // A unit is {ref, change, field, from, to, codes, stop, decision, note, finding, in}.
  const units = d.units;
  const was = units.map(u => u.decision + "\n" + u.note);
  let listed = units.map((_, i) => i), at = -1, dirty = false, printing = false;

  const word = u => u.decision || (u.codes.length ? (u.stop ? "stop" : "held") : "open");
  const shown = v => v === null ? "(null)" : v === "" ? "(empty)" : v;

  const fill = (id, values) => { for (const v of values) $(id).append(node("option", "", v)); };
  fill("act", [...new Set(d.changes.map(c => c.act))]);
  fill("field", [...new Set(units.filter(u => u.field >= 0).map(u => d.fields[u.field]))]);
  fill("finding", [...new Set(units.flatMap(u => u.codes))].sort());
  const moves = new Map();
  const move = u => u.field < 0 ? "" : d.fields[u.field] + ": " + shown(u.from) + " → " + shown(u.to);
  for (const u of units) { const m = move(u); if (m) moves.set(m, (moves.get(m) || 0) + 1); }
  const most = [...moves].filter(m => m[1] > 1).sort((a, b) => b[1] - a[1]).slice(0, 40);
  for (const [m, n] of most) { const o = node("option", "", m + " (" + n + ")"); o.value = m; $("move").append(o); }

  const lower = units.map(u => { const c = d.changes[u.change]; return [c.key, c.id, c.about, u.field < 0 ? c.about : d.fields[u.field], u.from, u.to, u.in].join("\n").toLowerCase(); });

  function choose() {
    const q = $("search").value.toLowerCase(), act = $("act").value, field = $("field").value, finding = $("finding").value, mv = $("move").value, state = $("state").value;
    listed = [];
    for (let i = 0; i < units.length; i++) {
      const u = units[i];
      if (q && !lower[i].includes(q)) continue;
      if (act && d.changes[u.change].act !== act) continue;
      if (field && (u.field < 0 || d.fields[u.field] !== field)) continue;
      if (finding && !u.codes.includes(finding)) continue;
      if (mv && move(u) !== mv) continue;
      if (state && (u.decision || "open") !== state) continue;
      listed.push(i);
    }
    order();
    sums();
    at = listed.length ? 0 : -1;
    $("scroll").scrollTop = 0;
    draw(); record();
  }

  // What a column is sorted by, and in which direction; -1 is the file's own order.
  let sorted = -1, down = false;
  const number = /^-?[0-9]+(\.[0-9]+)?$/;
  const by = [u => d.changes[u.change].key, u => d.changes[u.change].about, u => u.field < 0 ? d.changes[u.change].act : d.fields[u.field],
    u => u.from, u => u.to, u => u.codes.join(", "), u => word(u)];

  function order() {
    if (sorted < 0) return;
    const value = i => by[sorted](units[i]) ?? "";
    listed.sort((a, b) => {
      const x = value(a), y = value(b);
      const n = number.test(x) && number.test(y) ? Number(x) - Number(y) : x < y ? -1 : x > y ? 1 : 0;
      return (down ? -n : n) || a - b;
    });
  }

  // Sums are exact: of whole numbers of the smallest part.
  function exact(all) {
    let scale = 0;
    for (const v of all) { const i = v.indexOf("."); if (i >= 0) scale = Math.max(scale, v.length - i - 1); }
    let sum = 0n;
    for (const v of all) { const [whole, part = ""] = v.split("."); sum += BigInt(whole + part.padEnd(scale, "0")); }
    const text = (sum < 0n ? -sum : sum).toString().padStart(scale + 1, "0");
    return (sum < 0n ? "−" : "") + text.slice(0, text.length - scale) + (scale ? "." + text.slice(text.length - scale) : "");
  }

  function sums() {
    const of = new Map();
    for (const i of listed) {
      const u = units[i];
      if (u.field < 0) continue;
      const s = of.get(u.field) || { n: 0, from: [], to: [], numbers: true };
      of.set(u.field, s);
      s.n++;
      s.numbers = s.numbers && number.test(u.from ?? "") && number.test(u.to ?? "");
      if (s.numbers) { s.from.push(u.from); s.to.push(u.to); }
    }
    const parts = [];
    for (const [f, s] of of) if (s.numbers && s.n > 1) parts.push(d.fields[f] + " of " + s.n + ": " + exact(s.from) + " → " + exact(s.to));
    $("sums").textContent = parts.length ? "Sums of what is listed: " + parts.join(" · ") : "";
  }

  function counts() {
    const n = { approve: 0, hold: 0, reject: 0 }; let open = 0, held = 0;
    for (const u of units) { if (u.decision) n[u.decision]++; else if (u.codes.length) held++; else open++; }
    $("counts").textContent = open + " open · " + n.approve + " approved · " + (n.hold + held) + " held · " + n.reject + " rejected = " + units.length + " field changes, adds and deletes";
    $("listed").textContent = listed.length === units.length ? "All " + units.length + " changes" : listed.length + " of " + units.length + " changes";
  }

  function cells(i, k) {
    const u = units[i], c = d.changes[u.change], tr = node("tr", "row");
    tr.dataset.k = k; tr.setAttribute("aria-rowindex", k + 2); tr.setAttribute("aria-selected", k === at);
    const about = node("td", "", c.about); about.title = c.about;
    tr.append(node("td", "", c.key), about);
    if (u.field >= 0) tr.append(node("td", "", d.fields[u.field]), node("td", "from", shown(u.from)), node("td", "to", shown(u.to)));
    else { const t = node("td", c.act, c.act); const all = node("td", "", u.to); all.colSpan = 2; tr.append(t, all); }
    tr.append(node("td", "amend", u.codes.join(", ")), node("td", u.decision, word(u)));
    return tr;
  }

  function draw() {
    const body = $("rows"), box = $("scroll");
    const first = printing ? 0 : Math.max(0, Math.floor(box.scrollTop / rowHeight) - 10);
    const last = printing ? Math.min(listed.length, 5000) : Math.min(listed.length, first + Math.ceil(box.clientHeight / rowHeight) + 20);
    const space = n => { const tr = node("tr", "space"), td = node("td"); td.colSpan = 7; td.height = n * rowHeight; tr.setAttribute("aria-hidden", "true"); tr.append(td); return tr; };
    const rows = [];
    if (first > 0) rows.push(space(first));
    for (let k = first; k < last; k++) rows.push(cells(listed[k], k));
    if (last < listed.length) rows.push(space(listed.length - last));
    body.replaceChildren(...rows);
    $("table").setAttribute("aria-rowcount", listed.length + 1);
    counts();
  }

  function record() {
    const box = $("record");
    box.replaceChildren(node("h2", "", "Record"));
    if (at < 0) { box.append(node("p", "dim", "Nothing is listed.")); return; }
    const u = units[listed[at]], c = d.changes[u.change];
    const p = node("p"); p.append(node("b", "", c.key), " ", node("span", c.act, c.act), " ", node("span", "dim", c.id + " · " + word(u))); box.append(p);
    if (u.in) box.append(node("p", "dim", u.in));
    if (u.finding) box.append(node("p", "finding", u.finding));
    const buttons = node("div", "buttons");
    for (const [w, label] of [["approve", "Approve"], ["hold", "Hold"], ["reject", "Reject"], ["", "Open again"]]) {
      const b = node("button", w === "approve" ? "main" : "", label);
      b.disabled = w === "approve" && u.stop;
      b.addEventListener("click", () => { decide([listed[at]], w); });
      buttons.append(b);
    }
    box.append(buttons);
    const l = node("label", "", "Note"); l.htmlFor = "note";
    const note = node("input"); note.id = "note"; note.value = u.note; note.size = 40; note.disabled = !u.decision;
    note.addEventListener("change", () => { u.note = note.value; dirty = true; });
    box.append(l, note);
    const wrap = node("div", "scroll"); wrap.tabIndex = 0; wrap.setAttribute("role", "region"); wrap.setAttribute("aria-label", "The whole record");
    const t = node("table"), head = node("tr"), body = node("tbody");
    for (const h of ["field", "snapshot", "wanted"]) { const th = node("th", "", h); th.scope = "col"; head.append(th); }
    const thead = node("thead"); thead.append(head); t.append(thead, body);
    const changed = new Map(units.filter(x => x.change === u.change && x.field >= 0).map(x => [x.field, x]));
    const order = d.fields.map((_, i) => i).sort((a, b) => changed.has(b) - changed.has(a));
    for (const f of order) {
      const tr = node("tr"), ch = changed.get(f), value = c.record[f];
      tr.append(node("td", "", d.fields[f]), node("td", "from", c.act === "add" ? "" : (ch ? shown(ch.from) : value ?? "")), node("td", "to", ch ? shown(ch.to) : c.act === "add" ? (value ?? "") : ""));
      body.append(tr);
    }
    wrap.append(t); box.append(wrap);
  }

  function decide(which, w) {
    for (const i of which) {
      const u = units[i];
      if (w === "approve" && u.stop) continue;
      u.decision = w; dirty = true;
    }
    draw(); record();
  }

  function go(k) {
    if (!listed.length) return;
    at = Math.max(0, Math.min(listed.length - 1, k));
    const box = $("scroll"), y = at * rowHeight;
    if (y < box.scrollTop) box.scrollTop = y;
    if (y + 2 * rowHeight > box.scrollTop + box.clientHeight) box.scrollTop = y + 2 * rowHeight - box.clientHeight;
    draw(); record();
  }

  $("scroll").addEventListener("scroll", draw);
  $("rows").addEventListener("click", e => { const tr = e.target.closest("tr.row"); if (tr) go(+tr.dataset.k); });
  document.addEventListener("keydown", e => {
    if (e.ctrlKey || e.metaKey || e.altKey || /^(INPUT|SELECT|BUTTON)$/.test(e.target.tagName)) return;
    const page = Math.max(1, Math.floor($("scroll").clientHeight / rowHeight) - 2);
    const keys = { ArrowDown: () => go(at + 1), ArrowUp: () => go(at - 1), PageDown: () => go(at + page), PageUp: () => go(at - page), Home: () => go(0), End: () => go(listed.length - 1),
      a: () => one("approve"), h: () => one("hold"), r: () => one("reject"), o: () => one(""),
      u: () => { for (let n = 1; n <= listed.length; n++) { const k = (at + n) % listed.length; if (!units[listed[k]].decision) { go(k); return; } } } };
    if (keys[e.key]) { e.preventDefault(); keys[e.key](); }
  });
  const one = w => { if (at >= 0) { decide([listed[at]], w); if (w) go(at + 1); } };
  document.querySelectorAll("#table th").forEach((th, k) => {
    const b = node("button", "sort", th.textContent);
    b.addEventListener("click", () => {
      if (sorted !== k) { sorted = k; down = false; } else if (!down) down = true; else sorted = -1;
      document.querySelectorAll("#table th").forEach((x, j) => { if (j === sorted) x.setAttribute("aria-sort", down ? "descending" : "ascending"); else x.removeAttribute("aria-sort"); });
      choose();
    });
    th.replaceChildren(b);
  });
  for (const id of ["search", "act", "field", "finding", "move", "state"]) $(id).addEventListener("input", choose);
  for (const w of ["approve", "hold", "reject"]) $("group-" + w).addEventListener("click", () => {
    const finding = $("finding").value;
    const which = listed.filter(i => !units[i].decision && (finding || !units[i].codes.length) && !(w === "approve" && units[i].stop));
    if (which.length && confirm(w + " " + which.length + " changes?")) decide(which, w);
  });
  $("save").addEventListener("click", () => {
    const decisions = units.filter((u, i) => u.decision && was[i] !== u.decision + "\n" + u.note).map(u => ({ change: u.ref, decision: u.decision, note: u.note }));
    const text = JSON.stringify({ paletwin: "decisions", version: 1, set: d.set, decisions }, null, 1) + "\n";
    const a = node("a"); a.href = URL.createObjectURL(new Blob([text], { type: "application/json" })); a.download = "decisions-" + d.number.replaceAll("/", "-") + ".json";
    document.body.append(a); a.click(); a.remove(); setTimeout(() => URL.revokeObjectURL(a.href), 1000);
    dirty = false;
  });
  addEventListener("beforeunload", e => { if (dirty) e.preventDefault(); });
  addEventListener("beforeprint", () => { printing = true; draw(); });
  addEventListener("afterprint", () => { printing = false; draw(); });
  addEventListener("resize", draw);
  choose();
})();
