// summary says in words what the pictures of a group show.
function summary(g) {
  const p = posts(g), n = receives(g), people = Object.values(p).reduce((a, b) => a + b, 0);
  const writes = g.k === "roster" ? "Takes no mail: it only gives access." : `${count(p.admit || 0, "person", "people")} of ${number(people)} may write` + (p.hold ? `, ${number(p.hold)} ${p.hold === 1 ? "is" : "are"} held for approval` : "") + ((p.refuse || p.drop) ? `, ${number(sum(p, "refuse", "drop"))} may not` : "") + `. Mail from outside is ${past[g.out]}.`;
  const all = Object.values(n).reduce((a, b) => a + b, 0);
  const gets = all ? `${(g.nest || []).length ? "If every group within admits it too, " : "Once admitted, "}${number(sum(n, "inbox", "digest"))} of ${number(all)} get it` + (n.archive ? `, ${number(n.archive)} can read it` : "") + (missing(g) ? `, ${number(missing(g))} ${missing(g) === 1 ? "does" : "do"} not` : "") + "." : "Nobody gets it.";
  return [writes, gets];
}

// gates says what is taken to be so, where groups within have gates of their own.
const gates = (g) => (g.nest || []).length ? ", if every gate admits it" : ", once admitted";

function groupPage(n) {
  const g = data.groups[n];
  const hazards = (g.hz || []).map((i) => data.hazards[i]), all = hazards.reduce((n, h) => n + h.c, 0);
  return [
    el("h1", {}, bdi(g.t || g.a)),
    el("p", { class: "soft" }, g.t ? [bdi(g.a), " · "] : "", g.k, (g.also || []).length ? [" · also ", g.also.map((a, i) => [i ? ", " : "", bdi(a)])] : ""),
    g.d ? el("p", {}, bdi(g.d)) : null,
    el("p", { class: "big" }, summary(g).map((s) => [s, " "])),
    el("p", {}, "Owned by ", who(g, "o").length ? who(g, "o").map((o, i) => [i ? ", " : "", personLink(o)]) : el("strong", { class: "wait" }, "nobody"), "."),
    flow(g),
    hazards.length ? [el("h2", {}, "What will go wrong (" + number(all) + ")"), hazards.slice(0, 3).map(hazardBox),
      hazards.length > 3 ? el("details", {}, el("summary", {}, number(hazards.length - 3) + " more"), hazards.slice(3).map(hazardBox)) : null] : null,
    el("h2", {}, "Who may write"), classes(g),
    who(g, "ap").length ? el("p", {}, "Held messages are released by ", who(g, "ap").map((o, i) => [i ? ", " : "", personLink(o)]), ".") : null,
    el("h2", {}, "Who gets it" + gates(g)), g.get.length ? receipts(g) : el("p", {}, "Nobody."),
    data.brief && (g.nest || []).length ? el("p", { class: "soft" }, "Other groups stand within this one: some of their people may get the mail of some senders only. A page of so many groups does not work that out; a page for this group does.") : null,
    (g.nf || []).length ? [el("h3", {}, "From some senders only"), g.nf.map((x) => folded(count(who(x).length, "person", "people") + ": " + text(x.s), who(x)))] : null,
    nestedPart(g, n),
    (g.sends || []).length ? [el("h2", {}, "Who may write in its name"), list(g.sends, (s) => el("li", {}, personLink(s.w), s.as === "for" ? " for the group" : " as the group", s.p === "impossible" ? el("strong", { class: "bad" }, ", but cannot prove it: " + text(s.y)) : ""), 50)] : null,
    (g.set || []).length ? [el("h2", {}, "Settings"), el("div", { class: "scroll" }, el("table", {}, el("tbody", {}, g.set.map(([k, v]) => el("tr", {}, el("th", { scope: "row" }, k), el("td", {}, bdi(v)))))))] : null,
    expectationsOf((x) => x.g === n),
  ];
}

function folded(title, people, open) {
  return el("details", { open: open || undefined }, el("summary", {}, title), list(people, (p) => el("li", {}, personLink(p), data.people[p][1] ? [" ", el("span", { class: "soft" }, bdi(data.people[p][1]))] : "")));
}

function classes(g) {
  return g.post.map((c) => {
    const title = [icon(c.v), " ", el("strong", { class: tone[c.v] }, past[c.v]), " " + count(c.n, "person", "people") + ": ", el("span", {}, text(c.r))];
    if (!c.n) return el("p", { class: "soft" }, text(c.r), ": decides for nobody here");
    return who(c).length ? folded(title, who(c)) : el("p", {}, title);
  });
}

function receipts(g) {
  return outcomes.filter((o) => g.get.some((r) => r.o === o)).map((o) => {
    const rows = g.get.filter((r) => r.o === o), all = rows.reduce((n, r) => n + r.n + (r.x || []).length, 0);
    return el("section", { class: "card" }, el("h3", {}, icon(o), " ", el("span", { class: tone[o] }, number(all) + " " + outcomeWords[o])), dots(o, all),
      rows.map((r) => {
        const via = (r.v || []).length ? [", by way of ", r.v.map((x, i) => [i ? ", " : "", groupName(x)])] : "";
        const title = [count(r.n + (r.x || []).length, "person", "people") + ": " + text(r.y), via];
        return [r.n ? folded(title, who(r)) : el("p", {}, title), (r.x || []).length ? el("p", { class: "bad" }, "No such address: ", r.x.map((a, i) => [i ? ", " : "", bdi(a)])) : null];
      }));
  });
}

function nestedPart(g, n) {
  const up = parents()[n], nodes = around(n, 40);
  if (!(g.nest || []).length && !up.length) return null;
  const says = (g.nest || []).filter((x) => x.y).map((x) => el("li", { class: x.s === "stopped" ? "bad" : "wait" }, bdi(text(x.y))));
  return [el("h2", {}, "Groups in groups"), nodes.length > 1 ? [map(nodes, n), legend()] : null, says.length ? el("ul", {}, says) : null,
    el("p", {}, (g.nest || []).length ? ["Holds ", g.nest.map((x, i) => [i ? ", " : "", groupLink(x.g)]), ". "] : "", up.length ? ["Is in ", up.map((x, i) => [i ? ", " : "", groupLink(x)]), "."] : "")];
}

function hazardBox(h) {
  const others = h.c > 1 ? folded(`The same ${h.c === 2 ? "once" : number(h.c - 1) + " times"} more`, who(h)) : null;
  if (others && (h.x || []).length) others.append(el("ul", {}, h.x.map((a) => el("li", {}, bdi(a)))));
  return el("div", { class: "hazard " + h.s }, el("p", {}, el("strong", { class: severityTone[h.s] }, h.s), " · ", h.n, h.g >= 0 ? [" · ", groupLink(h.g)] : ""), el("p", {}, bdi(h.y)), el("p", {}, el("strong", {}, "What to do: "), bdi(h.f)), others, h.p ? el("p", { class: "soft" }, h.p) : null);
}

function personPage(n) {
  const [address, name, mailbox] = data.people[n], rows = receiptsOf(n);
  const roles = [["Owns", "o"], ["Approves for", "ap"]].map(([says, key]) => [says, data.groups.map((g, i) => has(who(g, key), n) ? i : -1).filter((i) => i >= 0)]).filter(([, l]) => l.length);
  const sends = data.groups.map((g, i) => (g.sends || []).some((s) => s.w === n) ? i : -1).filter((i) => i >= 0);
  const gets = rows.filter(([, r]) => r.o === "inbox" || r.o === "digest" || r.o === "archive"), misses = rows.filter(([, r]) => !gets.some(([, x]) => x === r));
  const line = ([g, r]) => el("li", {}, icon(r.o, outcomeWords[r.o]), " ", groupLink(g), ": " + text(r.y), (r.v || []).length ? [", by way of ", r.v.map((x, i) => [i ? ", " : "", groupName(x)])] : "");
  return [
    el("h1", {}, bdi(name || address)), name ? el("p", { class: "soft" }, bdi(address)) : null,
    mailbox ? el("p", { class: "bad" }, "The mailbox is " + (mailbox === "none" ? "missing" : mailbox) + ".") : null,
    el("p", { class: "big" }, `Gets mail of ${number(gets.length)} of ${count(rows.length, "group", "groups")}` + (misses.length ? `, misses ${number(misses.length)}.` : ".")),
    misses.length ? [el("h2", {}, "Does not get, and why"), list(misses, line, 200, "ul", { class: "plain" })] : null,
    gets.length ? [el("h2", {}, "Gets"), list(gets, line, 200, "ul", { class: "plain" })] : null,
    roles.map(([says, l]) => [el("h2", {}, says), list(l, (g) => el("li", {}, groupLink(g)))]),
    sends.length ? [el("h2", {}, "May write in the name of"), list(sends, (g) => el("li", {}, groupLink(g)))] : null,
  ];
}

// filtered is a table with filters and an order, of which the first rows are shown.
function filtered(title, rows, columns, filters, line) {
  const chosen = {}, body = el("tbody"), says = el("p", { role: "status" }), more = el("button", { class: "more", type: "button" });
  let order = 0, down = false, shown = 100, found = rows;
  const draw = () => {
    body.replaceChildren(...found.slice(0, shown).map((row) => el("tr", {}, columns.map((c, i) => el(i ? "td" : "th", { scope: i ? undefined : "row", class: c.n ? "n" : undefined }, c.show(row))))));
    says.textContent = line(found);
    more.hidden = found.length <= shown;
    more.textContent = `Show more (${number(found.length - shown)} left)`;
  };
  const pick = () => {
    found = rows.filter((row) => filters.every((f) => !chosen[f.says] || f.keep(row, chosen[f.says])));
    const key = columns[order].by;
    found.sort((a, b) => { const x = key(a), y = key(b); return (x < y ? -1 : x > y ? 1 : 0) * (down ? -1 : 1); });
    draw();
  };
  more.addEventListener("click", () => { shown += 200; draw(); });
  const controls = filters.map((f, i) => {
    const id = "filter" + i, change = (e) => { chosen[f.says] = e.target.value.trim().toLowerCase(); shown = 100; pick(); };
    return el("div", {}, el("label", { for: id }, f.says), f.options ? el("select", { id, onchange: change }, el("option", { value: "" }, "any"), f.options.map((o) => el("option", { value: o }, o))) : el("input", { id, type: "search", oninput: change, autocomplete: "off" }));
  });
  const heads = columns.map((c, i) => {
    const th = el("th", { scope: "col", class: c.n ? "n" : undefined, "aria-sort": i === order ? "ascending" : undefined });
    th.append(el("button", { type: "button", onclick: () => { down = i === order ? !down : Boolean(c.n); order = i; heads.forEach((h) => h.removeAttribute("aria-sort")); th.setAttribute("aria-sort", down ? "descending" : "ascending"); pick(); } }, c.says));
    return th;
  });
  pick();
  return [el("h1", {}, title), el("div", { class: "filters" }, controls), says, el("div", { class: "scroll", tabindex: 0, role: "region", "aria-label": title + ", table" }, el("table", {}, el("thead", {}, el("tr", {}, heads)), body)), more];
}

function groupsPage() {
  const rows = data.groups.map((g, n) => ({ g, n, get: getting(g), miss: missing(g), post: posts(g).admit || 0, hz: hazardsOf(g), key: [g.a, g.t, ...(g.also || [])].join(" ").toLowerCase() }));
  const verdicts = ["admit", "hold", "refuse", "drop"];
  return filtered("Groups", rows, [
    { says: "Group", by: (r) => r.g.a.toLowerCase(), show: (r) => [groupLink(r.n), r.g.t ? [el("br"), el("span", { class: "soft" }, bdi(r.g.t))] : ""] },
    { says: "Outside", by: (r) => r.g.out, show: (r) => el("span", { class: tone[r.g.out] }, past[r.g.out]) },
    { says: "Forged", by: (r) => r.g.fk ? " " : r.g.forg, show: (r) => r.g.fk ? el("strong", { class: "bad" }, "admitted, as " + number(r.g.fk)) : past[r.g.forg] },
    { says: "May write", n: true, by: (r) => r.post, show: (r) => number(r.post) },
    { says: "Get it", n: true, by: (r) => r.get, show: (r) => number(r.get) },
    { says: "Miss it", n: true, by: (r) => r.miss, show: (r) => r.miss ? el("span", { class: "wait" }, number(r.miss)) : "-" },
    { says: "Hazards", n: true, by: (r) => r.hz, show: (r) => r.hz ? el("span", { class: "bad" }, number(r.hz)) : "-" },
  ], [
    { says: "Name or address", keep: (r, v) => r.key.includes(v) },
    { says: "Mail from outside", options: verdicts, keep: (r, v) => r.g.out === v },
    { says: "Kind", options: ["list", "forum", "mailbox", "roster"], keep: (r, v) => r.g.k === v },
    { says: "Only those where", options: ["somebody misses it", "there are hazards", "forged mail gets in", "there is no owner"], keep: (r, v) => ({ "somebody misses it": r.miss > 0, "there are hazards": r.hz > 0, "forged mail gets in": r.g.fk > 0 || r.g.forg === "admit", "there is no owner": !who(r.g, "o").length })[v] },
  ], (found) => count(found.length, "group", "groups") + (found.length < rows.length ? ` of ${number(rows.length)}` : "") + `; ${number(found.reduce((n, r) => n + r.hz, 0))} hazards`);
}

function peoplePage() {
  const n = counts(), rows = data.people.map((p, i) => ({ p, n: i, get: n.get[i], all: n.all[i], key: (p[0] + " " + p[1]).toLowerCase() }));
  return filtered("People", rows, [
    { says: "Person", by: (r) => r.p[0].toLowerCase(), show: (r) => [personLink(r.n), r.p[1] ? [el("br"), el("span", { class: "soft" }, bdi(r.p[1]))] : ""] },
    { says: "Groups", n: true, by: (r) => r.all, show: (r) => number(r.all) },
    { says: "Gets", n: true, by: (r) => r.get, show: (r) => number(r.get) },
    { says: "Misses", n: true, by: (r) => r.all - r.get, show: (r) => r.all - r.get ? el("span", { class: "wait" }, number(r.all - r.get)) : "-" },
    { says: "Mailbox", by: (r) => r.p[2], show: (r) => r.p[2] ? el("span", { class: "bad" }, r.p[2]) : "open" },
  ], [
    { says: "Name or address", keep: (r, v) => r.key.includes(v) },
    { says: "Only those who", options: ["miss something", "have a mailbox that is not open"], keep: (r, v) => v === "miss something" ? r.get < r.all : r.p[2] !== "" },
  ], (found) => count(found.length, "person", "people") + (found.length < rows.length ? ` of ${number(rows.length)}` : ""));
}

function hazardsPage() {
  const box = el("div"), says = el("p", { role: "status" }), chosen = {};
  const owners = (h) => h.g < 0 ? ["nobody"] : who(data.groups[h.g], "o").length ? who(data.groups[h.g], "o").map((o) => data.people[o][0]) : ["nobody"];
  const draw = () => {
    const found = data.hazards.filter((h) => (!chosen.s || h.s === chosen.s) && (!chosen.n || h.n === chosen.n) && (!chosen.o || owners(h).includes(chosen.o)));
    says.textContent = count(found.reduce((n, h) => n + h.c, 0), "hazard", "hazards");
    box.replaceChildren(...list(found, hazardBox, 100, "div", {}));
  };
  const select = (key, label, options) => el("div", {}, el("label", { for: "hz-" + key }, label), el("select", { id: "hz-" + key, onchange: (e) => { chosen[key] = e.target.value; draw(); } }, el("option", { value: "" }, "any"), options.map((o) => el("option", { value: o }, o))));
  const kinds = [...new Set(data.hazards.map((h) => h.n))].sort(), everyone = [...new Set(data.hazards.flatMap(owners))].sort().slice(0, 2000);
  draw();
  return [el("h1", {}, "Hazards"), el("div", { class: "filters" }, select("s", "Severity", ["high", "medium", "low"]), select("n", "Kind", kinds), select("o", "Owner of the group", everyone)), says, box];
}

function expectationsOf(keep) {
  const found = data.expectations.filter(keep);
  if (!found.length) return null;
  return [el("h2", {}, "What must hold"), list(found, (x) => el("li", {}, el("strong", { class: x.h ? "good" : "bad" }, x.h ? "✓ holds" : "✗ does not hold"), " ", bdi(x.t), (x.x || []).length ? el("ul", {}, x.x.map((a) => el("li", {}, bdi(a)))) : ""), 100, "ul", { class: "plain" })];
}

function expectationsPage() {
  const broken = data.expectations.filter((x) => !x.h).length;
  return [el("h1", {}, "Expectations"), el("p", { class: "big" }, broken ? `${number(broken)} of ${number(data.expectations.length)} do not hold.` : `All ${number(data.expectations.length)} hold.`),
    [...new Set(data.expectations.map((x) => x.g))].sort((a, b) => data.expectations.some((x) => x.g === b && !x.h) - data.expectations.some((x) => x.g === a && !x.h)).map((g) => [el("h2", {}, groupLink(g)), (expectationsOf((x) => x.g === g) || []).slice(1)])];
}

function mapPage() {
  const roots = data.groups.map((g, n) => n).filter((n) => (data.groups[n].nest || []).length && !parents()[n].length);
  const below = (n) => { const seen = new Set([n]), todo = [n]; while (todo.length) for (const x of data.groups[todo.pop()].nest || []) if (x.g >= 0 && !seen.has(x.g)) { seen.add(x.g); todo.push(x.g); } return seen; };
  const rings = data.groups.map((g, n) => n).filter((n) => (data.groups[n].nest || []).some((x) => x.g >= 0 && below(x.g).has(n)));
  const tops = roots.concat(rings.filter((n) => !parents()[n].some((x) => roots.includes(x)))).map((n) => [n, below(n)]).sort((a, b) => b[1].size - a[1].size), most = 60;
  const nested = data.groups.filter((g) => (g.nest || []).length), stops = data.groups.flatMap((g) => g.nest || []).filter((x) => x.s === "stopped").length, waits = data.groups.flatMap((g) => g.nest || []).filter((x) => x.s === "waiting").length;
  const drawn = new Set(), pictures = [];
  for (const [n, all] of tops) {
    if (pictures.length === 8) break;
    if (drawn.has(n) || all.size > most) continue;
    const nodes = new Set(all);
    for (const [m, other] of tops) if (!drawn.has(m) && [...other].some((x) => nodes.has(x)) && new Set([...nodes, ...other]).size <= most) other.forEach((x) => nodes.add(x));
    nodes.forEach((x) => drawn.add(x));
    pictures.push(el("section", {}, el("h2", {}, groupLink(n), nodes.size > all.size ? " and others" : ""), map([...nodes])));
  }
  return [el("h1", {}, "Groups in groups"), el("p", { class: "big" }, `${count(nested.length, "group holds", "groups hold")} other groups. Mail is stopped between two of them in ${count(stops, "place", "places")}, and waits in ${number(waits)}.`), legend(),
    rings.length ? el("p", { class: "bad" }, "Nested in a ring: ", rings.slice(0, 20).map((n, i) => [i ? ", " : "", groupLink(n)])) : null, pictures,
    tops.length ? [el("h2", {}, "All outermost groups"), list(tops, ([n, all]) => el("li", {}, groupLink(n), ` (${number(all.size - 1)} within)`))] : null];
}

function probePage() {
  const p = data.probe;
  const off = p.cases.filter((c) => !c.as || (c.u || []).length);
  return [el("h1", {}, "The last probe"), p.line ? el("p", { class: "big" }, p.line) : null, el("p", { class: "soft" }, "Run ", bdi(p.run), ", " + p.began.slice(0, 16).replace("T", " ")),
    p.causes.length ? [el("h2", {}, "What would explain it"), el("ol", {}, p.causes.map((c) => el("li", {}, bdi(c))))] : null,
    el("h2", {}, "Beside the prediction"), el("p", {}, off.length ? `${number(off.length)} of ${count(p.cases.length, "message", "messages")} not as predicted.` : `All ${count(p.cases.length, "message", "messages")} as predicted.`),
    list(off.concat(p.cases.filter((c) => !off.includes(c))), (c) => el("li", { class: "card" }, el("strong", { class: off.includes(c) ? "bad" : "good" }, off.includes(c) ? "✗ " : "✓ "), bdi(c.f), " to ", bdi(c.t), ` (${c.k}): predicted ${c.p || "nothing"}, ${c.s.startsWith("not ") ? "" : "seen "}${c.s}`, (c.u || []).length ? el("ul", {}, c.u.map(([who, was, is]) => el("li", {}, bdi(who), `: predicted ${was || "nothing"}, ${is.startsWith("not ") ? "" : "seen "}${is}`))) : el("span", { class: "soft" }, c.m ? `; ${count(c.m, "mailbox", "mailboxes")} as predicted` : "")), 50, "ul", { class: "plain" }),
    el("h2", {}, "When copies arrived"), arrivals((data.runs || []).filter((r) => r.run !== p.run).concat([p.arrived]))];
}

function overview() {
  const high = data.hazards.filter((h) => h.s === "high");
  const owners = new Map();
  for (const h of data.hazards) for (const o of h.g < 0 ? [] : who(data.groups[h.g], "o")) owners.set(o, (owners.get(o) || 0) + h.c);
  const tops = [...owners].sort((a, b) => b[1] - a[1]).slice(0, 10);
  const small = data.groups.length <= 12;
  return [el("h1", {}, data.of ? "Your mail groups" : "The mail groups at a glance"),
    el("ul", { class: "cards" }, data.answers.map((a) => el("li", { class: "card" }, el("h2", {}, el("a", { href: "#/" + a.part }, a.what)), el("p", {}, bdi(a.says))))),
    data.own ? ownPart() : null,
    data.whole ? glance() : null,
    small ? data.groups.map((g, n) => el("section", { class: "card" }, el("h2", {}, groupLink(n), g.t ? [" ", el("span", { class: "soft" }, bdi(g.t))] : ""), summary(g).map((s) => el("p", {}, s)), (g.hz || []).length ? el("p", { class: "bad" }, count(hazardsOf(g), "hazard", "hazards")) : "")) : null,
    high.length ? [el("h2", {}, "Most urgent"), list(high.slice(0, 10), hazardBox, 10, "div", {}), high.length > 10 ? el("p", {}, el("a", { href: "#/hazards" }, `All ${number(high.reduce((n, h) => n + h.c, 0))} of high severity`)) : null] : null,
    data.whole && tops.length ? [el("h2", {}, "By owner"), el("ul", {}, tops.map(([o, n]) => el("li", {}, personLink(o), ": " + count(n, "hazard", "hazards") + " in their groups")))] : null];
}

// ownPart tells somebody what they get and may themselves.
function ownPart() {
  const o = data.own, gets = o.gets.filter((g) => ["inbox", "digest", "archive"].includes(g.o)), misses = o.gets.filter((g) => !gets.includes(g));
  const line = (g) => el("li", {}, icon(g.o, outcomeWords[g.o]), " ", bdi(g.g), ": " + g.y, g.v ? [", by way of ", bdi(g.v)] : "");
  return [el("h2", {}, "You, ", bdi(o.n || o.a)), el("p", { class: "big" }, `You get mail of ${number(gets.length)} of ${count(o.gets.length, "group", "groups")}` + (misses.length ? `, and miss ${number(misses.length)}.` : ".")),
    misses.length ? [el("h3", {}, "You do not get, and why"), list(misses, line, 100, "ul", { class: "plain" })] : null,
    gets.length ? [el("h3", {}, "You get"), list(gets, line, 20, "ul", { class: "plain" })] : null,
    o.posts.length ? [el("h3", {}, "When you write"), o.posts.map((p) => el("details", {}, el("summary", {}, icon(p.v), " ", past[p.v] + " by " + count(p.g.length, "group", "groups")), list(p.g, (g) => el("li", {}, bdi(g)))))] : null,
    el("h2", {}, data.groups.length ? "Your groups" : "You own no group")];
}

// glance draws all groups: each one where they are few, else how many are alike.
function glance() {
  const g = data.groups, has = (keep) => g.filter(keep).length;
  const rows = [["Mail from outside is admitted", has((x) => x.out === "admit")], ["Mail from outside is held", has((x) => x.out === "hold")], ["Mail from outside is refused", has((x) => x.out === "refuse" || x.out === "drop")],
    ["Forged mail gets in", has((x) => x.fk > 0 || x.forg === "admit")], ["Somebody misses the mail", has((x) => missing(x) > 0)], ["There are hazards", has((x) => (x.hz || []).length > 0)], ["There is no owner", has((x) => !who(x, "o").length)]];
  const bar = (n) => svg("svg", { viewBox: "0 0 200 16", width: 200, height: 16, "aria-hidden": "true" }, svg("rect", { x: 0, y: 2, width: 200, height: 12, rx: 3, fill: "var(--fill)" }), svg("rect", { x: 0, y: 2, width: 200 * n / Math.max(1, g.length), height: 12, rx: 3, fill: "var(--soft)" }));
  const tile = (x, n) => el("li", { class: "card tile" }, el("p", {}, groupLink(n)), el("p", { class: "soft" }, icon(x.out, "mail from outside is " + past[x.out]), " ", icon(getting(x) ? "inbox" : "nothing", "get it"), " " + number(getting(x)),
    missing(x) ? el("span", { class: "wait" }, " ", icon("undeliverable", "miss it"), " " + number(missing(x))) : "", (x.hz || []).length ? el("span", { class: "bad" }, " ! " + number(hazardsOf(x))) : ""));
  return [el("h2", {}, count(g.length, "group", "groups")), el("div", { class: "scroll" }, el("table", {}, el("tbody", {}, rows.map(([says, n]) => el("tr", {}, el("th", { scope: "row" }, says), el("td", { class: "n" }, number(n)), el("td", { class: "wide" }, bar(n))))))),
    g.length <= 60 ? [el("p", { class: "soft" }, "Each group: what becomes of mail from outside, how many get the mail, how many miss it, and hazards."), el("ul", { class: "cards" }, g.map(tile))] : el("p", {}, el("a", { href: "#/groups" }, "All groups, with filters"))];
}
