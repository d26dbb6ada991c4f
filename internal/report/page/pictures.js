// Pictures of verdicts and outcomes differ in shape, not in colour alone.
const shapes = {
  admit: () => [svg("path", { d: "M4 21V4h9v17M13 6l6-2v17l-6-2", fill: "none", stroke: "currentColor", "stroke-width": 2 }), svg("path", { d: "M1 21h22", stroke: "currentColor", "stroke-width": 2 })],
  hold: () => [svg("path", { d: "M6 3h12M6 21h12M7 3c0 6 10 12 10 18M17 3c0 6-10 12-10 18", fill: "none", stroke: "currentColor", "stroke-width": 2 })],
  refuse: () => [svg("rect", { x: 4, y: 3, width: 16, height: 18, fill: "none", stroke: "currentColor", "stroke-width": 2 }), svg("path", { d: "M4 8l16 8M4 16L20 8", stroke: "currentColor", "stroke-width": 2 })],
  drop: () => [svg("path", { d: "M12 3v12M7 10l5 5 5-5M4 21h16", fill: "none", stroke: "currentColor", "stroke-width": 2, "stroke-dasharray": "3 2" })],
  inbox: () => [svg("circle", { cx: 12, cy: 12, r: 9, fill: "currentColor" })],
  digest: () => [svg("circle", { cx: 12, cy: 12, r: 8, fill: "none", stroke: "currentColor", "stroke-width": 3 }), svg("path", { d: "M12 4a8 8 0 0 1 0 16z", fill: "currentColor" })],
  archive: () => [svg("circle", { cx: 12, cy: 12, r: 8, fill: "none", stroke: "currentColor", "stroke-width": 3 })],
  nothing: () => [svg("path", { d: "M5 12h14", stroke: "currentColor", "stroke-width": 4 })],
  waiting: () => [svg("path", { d: "M6 4h12L6 20h12z", fill: "none", stroke: "currentColor", "stroke-width": 3 })],
  stopped: () => [svg("circle", { cx: 12, cy: 12, r: 8, fill: "none", stroke: "currentColor", "stroke-width": 3 }), svg("path", { d: "M6 18L18 6", stroke: "currentColor", "stroke-width": 3 })],
  undeliverable: () => [svg("path", { d: "M5 5l14 14M19 5L5 19", stroke: "currentColor", "stroke-width": 4 })],
};

const icon = (word, label) => svg("svg", { class: "icon " + (tone[word] || ""), viewBox: "0 0 24 24", role: label ? "img" : undefined, "aria-label": label, "aria-hidden": label ? undefined : "true" }, shapes[word]());

// dots draws each person of a short list.
function dots(word, n) {
  const most = 300;
  if (n > most) return el("p", { class: "soft" }, number(n) + " people, too many to draw one by one");
  const box = el("div", { class: "dots " + (tone[word] || ""), "aria-hidden": "true" });
  for (let i = 0; i < n; i++) box.append(svg("svg", { viewBox: "0 0 24 24" }, shapes[word]()));
  return box;
}

// flow draws the way of a message: who writes, what the gate says, who gets it.
function flow(g) {
  const row = (word, what, says) => el("li", {}, icon(word), el("span", {}, what), el("strong", { class: tone[word] }, says));
  const senders = g.post.filter((c) => c.n).sort((a, b) => b.n - a.n).map((c) => row(c.v, [count(c.n, "person", "people"), el("span", { class: "soft" }, " " + text(c.r))], past[c.v]));
  const strangers = [["anyone outside", g.out], ["an unknown address of ours", g.ins], ["forged, unknown address", g.forg]].map(([who, v]) => row(v, who, past[v]));
  if (g.fk) strangers.push(el("li", {}, icon("admit"), "forged, as one of " + count(g.fk, "known address", "known addresses"), el("strong", { class: "bad" }, "admitted")));
  const n = receives(g);
  const gets = outcomes.filter((o) => n[o]).map((o) => row(o, outcomeWords[o], number(n[o])));
  return el("div", { class: "flow card" },
    el("div", {}, el("h2", {}, "Who writes"), el("ol", {}, senders, strangers)),
    svg("svg", { class: "arrow", viewBox: "0 0 40 24", width: 40, height: 24, "aria-hidden": "true" }, svg("path", { d: "M2 12h32M26 4l9 8-9 8", fill: "none", stroke: "currentColor", "stroke-width": 3 })),
    el("div", {}, el("h2", {}, "Who gets it" + gates(g)), gets.length ? el("ol", {}, gets) : el("p", {}, "Nobody.")));
}

// Groups above and below a group, nearest first, at most so many.
function around(n, most) {
  const up = parents(), seen = new Map([[n, 0]]);
  let level = [n];
  const reach = (next) => {
    let edge = [n];
    while (edge.length && seen.size < most) {
      const later = [];
      for (const one of edge) for (const other of next(one)) if (!seen.has(other) && seen.size < most) { seen.set(other, 1); later.push(other); }
      edge = later;
    }
  };
  reach((one) => (data.groups[one].nest || []).map((x) => x.g).filter((x) => x >= 0));
  reach((one) => up[one]);
  return [...seen.keys()];
}

let above;
function parents() {
  if (!above) {
    above = data.groups.map(() => []);
    data.groups.forEach((g, n) => (g.nest || []).forEach((x) => { if (x.g >= 0) above[x.g].push(n); }));
  }
  return above;
}

// map draws groups nested in groups, from the outer ones on the left to the inner ones.
function map(nodes, marked) {
  const inside = new Set(nodes), depth = new Map(nodes.map((n) => [n, 0]));
  for (let round = 0; round < nodes.length; round++) { // rings end it
    let changed = false;
    for (const n of nodes) for (const x of data.groups[n].nest || []) {
      if (inside.has(x.g) && x.g !== n && depth.get(x.g) < depth.get(n) + 1 && depth.get(n) + 1 < 12) { depth.set(x.g, depth.get(n) + 1); changed = true; }
    }
    if (!changed) break;
  }
  const columns = [], WIDTH = 190, GAP = 70, ROW = 46;
  for (const n of nodes) (columns[depth.get(n)] = columns[depth.get(n)] || []).push(n);
  const at = new Map();
  const laid = columns.filter(Boolean);
  laid.forEach((column, c) => {
    const middle = (n) => { const p = parents()[n].filter((x) => at.has(x)).map((x) => at.get(x)[1]); return p.length ? p.reduce((a, b) => a + b) / p.length : 0; };
    column.sort((a, b) => middle(a) - middle(b) || (groupName(a) < groupName(b) ? -1 : 1));
    column.forEach((n, r) => at.set(n, [12 + c * (WIDTH + GAP), 12 + r * ROW]));
  });
  const height = 24 + ROW * Math.max(...laid.map((c) => c.length)), width = 24 + laid.length * (WIDTH + GAP) - GAP;
  const picture = svg("svg", { width, height, viewBox: `0 0 ${width} ${height}`, role: "group", "aria-label": "Groups nested in groups" });
  for (const n of nodes) for (const x of data.groups[n].nest || []) if (at.has(x.g)) picture.append(edge(at.get(n), at.get(x.g), x, WIDTH));
  for (const n of nodes) {
    const [x, y] = at.get(n), local = data.groups[n].a.split("@")[0];
    picture.append(svg("a", { href: "#/group/" + encodeURIComponent(data.groups[n].a), "aria-label": data.groups[n].a },
      svg("title", {}, data.groups[n].a),
      svg("rect", { x, y, width: WIDTH, height: 32, rx: 8, fill: n === marked ? "var(--mark)" : "var(--bg)", stroke: "var(--soft)", "stroke-width": n === marked ? 2.5 : 1 }),
      svg("text", { x: x + 10, y: y + 21 }, local.length > 22 ? local.slice(0, 21) + "…" : local)));
  }
  return el("div", { class: "map", tabindex: 0, role: "region", "aria-label": "Map of " + nodes.length + " nested groups around " + groupName(marked ?? nodes[0]) }, picture);
}

function edge([x1, y1], [x2, y2], nested, width) {
  const ax = x1 + width, ay = y1 + 16, bx = x2, by = y2 + 16, mid = (ax + bx) / 2;
  const t = 0.68, u = 1 - t; // where a mark stands: near the inner group, where ways part
  const mx = u * u * u * ax + 3 * u * u * t * mid + 3 * u * t * t * mid + t * t * t * bx, my = (u * u * u + 3 * u * u * t) * ay + (3 * u * t * t + t * t * t) * by;
  const state = nested.none ? "nothing" : nested.s;
  const dash = { open: undefined, waiting: "7 5", stopped: undefined, nothing: "2 5" }[state];
  const colour = { open: "var(--soft)", waiting: "var(--wait)", stopped: "var(--bad)", nothing: "var(--soft)" }[state];
  const parts = [svg("path", { d: `M${ax} ${ay}C${mid} ${ay} ${mid} ${by} ${bx} ${by}`, fill: "none", stroke: colour, "stroke-width": state === "stopped" ? 3 : 2, "stroke-dasharray": dash })];
  if (state === "stopped") parts.push(svg("circle", { cx: mx, cy: my, r: 8, fill: "var(--card)", stroke: colour, "stroke-width": 2.5 }), svg("path", { d: `M${mx - 5} ${my + 5}l10 -10`, stroke: colour, "stroke-width": 2.5 }));
  if (state === "waiting") parts.push(svg("path", { d: `M${mx - 5} ${my - 7}h10l-10 14h10z`, fill: "var(--card)", stroke: colour, "stroke-width": 2 }));
  return svg("g", {}, svg("title", {}, nested.y ? text(nested.y) : state === "nothing" ? "nothing passes: copy none" : "passes"), parts);
}

function legend() {
  const one = (state, says) => el("li", {}, svg("svg", { width: 64, height: 24, viewBox: "0 0 64 24", "aria-hidden": "true" }, edge([-40, -4], [64, -4], { s: state, none: state === "nothing" }, 40)), " " + says);
  return el("ul", { class: "plain cards" }, one("open", "passes"), one("waiting", "somebody's message waits here"), one("stopped", "somebody's message is stopped here"), one("nothing", "nothing passes"));
}

// arrivals plots after how many seconds messages were there.
function arrivals(runs) {
  const last = runs[runs.length - 1], all = last.s;
  if (!all.length) return el("p", {}, "No message of the last run was seen.");
  const W = Math.min(640, Math.max(280, main.clientWidth - 32)), H = 240, L = 48, B = 36, top = Math.max(...all) || 1;
  const x = (s) => L + (W - L - 16) * s / top, y = (share) => H - B - (H - B - 14) * share;
  let d = `M${x(0)} ${y(0)}`;
  all.forEach((s, i) => { d += `H${x(s).toFixed(1)}V${y((i + 1) / all.length).toFixed(1)}`; });
  const at = (share) => all[Math.min(all.length - 1, Math.ceil(share * all.length) - 1)];
  const marks = [[0.5, "half"], [0.95, "95 %"]].map(([share, says]) => [svg("path", { d: `M${L} ${y(share)}H${x(at(share))}V${y(0)}`, fill: "none", stroke: "var(--soft)", "stroke-dasharray": "4 4" }),
    svg("text", { x: Math.min(x(at(share)) + 4, W - 110), y: y(share) - 5 }, `${says} after ${at(share).toFixed(1)} s`)]);
  const ticks = (W < 450 ? [0, 0.5, 1] : [0, 0.25, 0.5, 0.75, 1]).map((share) => svg("text", { x: x(share * top), y: H - 14, "text-anchor": "middle" }, (share * top).toFixed(1) + " s"));
  const plot = svg("svg", { class: "plot", viewBox: `0 0 ${W} ${H}`, width: W, height: H, role: "img", "aria-label": `Half of ${all.length} copies were there after ${at(0.5).toFixed(1)} seconds, 95 percent after ${at(0.95).toFixed(1)}.` },
    svg("path", { d: `M${L} 10V${H - B}H${W - 16}`, fill: "none", stroke: "var(--soft)" }), marks, svg("path", { d, fill: "none", stroke: "var(--link)", "stroke-width": 2.5 }), ticks,
    svg("text", { x: L - 6, y: y(1) + 4, "text-anchor": "end" }, "all"), svg("text", { x: L - 6, y: y(0.5) + 4, "text-anchor": "end" }, "half"));
  const rows = runs.filter((r) => r.s.length).map((r) => { const q = (share) => r.s[Math.min(r.s.length - 1, Math.ceil(share * r.s.length) - 1)].toFixed(1) + " s";
    return el("tr", {}, el("th", { scope: "row" }, bdi(r.run)), el("td", {}, r.began.slice(0, 16).replace("T", " ")), el("td", { class: "n" }, number(r.s.length)), el("td", { class: "n" }, q(0.5)), el("td", { class: "n" }, q(0.95))); });
  return [plot, el("div", { class: "scroll" }, el("table", {}, el("thead", {}, el("tr", {}, ["Run", "Began", "Copies seen", "Half after", "95 % after"].map((h, i) => el("th", { scope: "col", class: i > 1 ? "n" : undefined }, h)))), el("tbody", {}, rows)))];
}
