"use strict";
const data = await unpacked(document.getElementById("data"));

// unpacked reads what the page holds: JSON; of large pages a text, which is JSON packed by gzip in base64.
async function unpacked(e) {
  const held = JSON.parse(e.textContent);
  if (typeof held !== "string") return held;
  const text = atob(held), bytes = new Uint8Array(text.length);
  for (let i = 0; i < text.length; i++) bytes[i] = text.charCodeAt(i);
  return new Response(new Blob([bytes]).stream().pipeThrough(new DecompressionStream("gzip"))).json();
}

const main = document.getElementById("main");
const SVG = "http://www.w3.org/2000/svg";

// el makes an element: attributes, then what is in it. Texts are texts, whatever stands in them.
function el(name, attributes, ...inside) {
  const e = document.createElement(name);
  return fill(e, attributes, inside);
}

function svg(name, attributes, ...inside) {
  return fill(document.createElementNS(SVG, name), attributes, inside);
}

function fill(e, attributes, inside) {
  for (const [key, value] of Object.entries(attributes || {})) {
    if (key.startsWith("on")) e.addEventListener(key.slice(2), value);
    else if (value !== undefined && value !== false) e.setAttribute(key, value === true ? "" : value);
  }
  e.append(...inside.flat(Infinity).filter((one) => one !== null && one !== undefined && one !== ""));
  return e;
}

const number = (n) => n.toLocaleString("en");
const count = (n, one, many) => number(n) + " " + (n === 1 ? one : many);
const text = (n) => data.texts[n];
const bdi = (s) => el("bdi", {}, s);

// A group of the page, or one that it is not about, by number.
const groupName = (n) => n < 0 ? text(-1 - n) : data.groups[n].a;
const groupLink = (n) => n < 0 ? bdi(groupName(n)) : el("a", { href: "#/group/" + encodeURIComponent(data.groups[n].a) }, bdi(data.groups[n].a));
const personLink = (n) => el("a", { href: "#/person/" + encodeURIComponent(data.people[n][0]) }, bdi(data.people[n][0]));
const personName = (n) => data.people[n][1] || data.people[n][0];

const past = { admit: "admitted", hold: "held for approval", refuse: "refused", drop: "dropped" };
const tone = { admit: "", hold: "wait", refuse: "", drop: "", inbox: "", digest: "", archive: "", nothing: "soft", waiting: "wait", stopped: "bad", undeliverable: "bad" };
const outcomes = ["inbox", "digest", "archive", "nothing", "waiting", "stopped", "undeliverable"];
const outcomeWords = { inbox: "get every message", digest: "get a digest", archive: "can read it, get no copy", nothing: "get nothing, by their setting",
  waiting: "get it after another approval", stopped: "miss it: another gate refuses", undeliverable: "miss it: mailbox full, closed or missing" };

// How many get what of a group.
function receives(g) {
  const n = {};
  for (const r of g.get) n[r.o] = (n[r.o] || 0) + r.n + (r.x || []).length;
  return n;
}

function posts(g) {
  const n = {};
  for (const c of g.post) n[c.v] = (n[c.v] || 0) + c.n;
  return n;
}

const sum = (n, ...keys) => keys.reduce((all, key) => all + (n[key] || 0), 0);
const getting = (g) => sum(receives(g), "inbox", "digest", "archive");
const missing = (g) => sum(receives(g), "nothing", "stopped", "undeliverable", "waiting");

// has reports whether a number is in a list that goes up.
function has(list, n) {
  let from = 0, to = list.length;
  while (from < to) { const mid = (from + to) >> 1; if (list[mid] < n) from = mid + 1; else to = mid; }
  return list[from] === n;
}

// What somebody gets: groups with the receipt that they are in.
function receiptsOf(person) {
  const all = [];
  data.groups.forEach((g, n) => g.get.forEach((r) => { if (has(who(r), person)) all.push([n, r]); }));
  return all;
}

// In how many groups each person is named, and of how many they get the mail.
let counted;
function counts() {
  if (!counted) {
    counted = { all: new Uint32Array(data.people.length), get: new Uint32Array(data.people.length) };
    for (const g of data.groups) for (const r of g.get) {
      const gets = r.o === "inbox" || r.o === "digest" || r.o === "archive";
      for (const w of who(r)) { counted.all[w]++; if (gets) counted.get[w]++; }
    }
  }
  return counted;
}

// list shows the first of many, and the rest on request.
function list(items, make, first = 100, tag = "ul", attributes = { class: "names" }) {
  const box = el(tag, attributes);
  const rest = el("button", { class: "more", type: "button" });
  let shown = 0;
  const more = () => {
    const next = items.slice(shown, shown + first);
    box.append(...next.map(make));
    shown += next.length;
    if (shown >= items.length) rest.remove();
    else rest.textContent = "Show " + number(Math.min(first, items.length - shown)) + " more of " + number(items.length - shown);
  };
  rest.addEventListener("click", more);
  more();
  return shown < items.length ? [box, rest] : [box];
}

// People of a list: each is written as the difference to the one before it.
function people(packed) {
  const out = [], bytes = atob(packed || "");
  let before = 0, n = 0, shift = 0;
  for (let i = 0; i < bytes.length; i++) {
    const byte = bytes.charCodeAt(i);
    n += (byte & 127) * 2 ** shift;
    if (byte & 128) { shift += 7; continue; }
    out.push(before += n);
    n = shift = 0;
  }
  return out;
}

// who returns a list of people, which is unpacked when it is first asked for.
function who(one, key = "w") {
  if (typeof one[key] === "string") one[key] = people(one[key]);
  return one[key] || [];
}

const hazardsOf = (g) => (g.hz || []).reduce((n, i) => n + data.hazards[i].c, 0);

const worst = { high: 0, medium: 1, low: 2 };
const severityTone = { high: "bad", medium: "wait", low: "soft" };
