const parts = [["", "At a glance", overview], ["groups", "Groups", groupsPage], ["map", "Map", mapPage], ["people", "People", peoplePage], ["hazards", "Hazards", hazardsPage]];
if (!data.groups.some((g) => (g.nest || []).length)) parts.splice(2, 1);
if (data.expectations.length) parts.push(["expectations", "Expectations", expectationsPage]);
if (data.probe) parts.push(["probe", "Probe", probePage]);
document.getElementById("parts").append(...parts.map(([key, says]) => el("li", {}, el("a", { href: "#/" + key, id: "part-" + key }, says))));

function show(first) {
  const [, part = "", name = ""] = location.hash.split("/");
  let wanted = decodeURIComponent(name), inside;
  if (part === "group") { const n = data.groups.findIndex((g) => g.a === wanted); inside = n >= 0 && groupPage(n); }
  else if (part === "person") { const n = data.people.findIndex((p) => p[0] === wanted); inside = n >= 0 && personPage(n); }
  else { const one = parts.find(([key]) => key === part); inside = one && one[2](); }
  main.replaceChildren(...[inside || el("h1", {}, "There is no such page here.")].flat(Infinity).filter(Boolean));
  const current = { group: "groups", person: "people" }[part] ?? part;
  for (const a of document.querySelectorAll("#parts a")) a.id === "part-" + current ? a.setAttribute("aria-current", "page") : a.removeAttribute("aria-current");
  const title = main.querySelector("h1");
  document.title = [title && title.textContent, data.of, data.name].filter(Boolean).join(" - ");
  if (!first) { window.scrollTo(0, 0); main.focus({ preventScroll: true }); }
}

const find = document.getElementById("find"), found = document.getElementById("found");
let keys;
function search() {
  const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
  if (!words.length) return found.replaceChildren();
  keys = keys || data.groups.map((g, n) => [[g.a, g.t, ...(g.also || [])].join(" ").toLowerCase(), () => [groupLink(n), g.t]]).concat(data.people.map((p, n) => [(p[0] + " " + p[1]).toLowerCase(), () => [personLink(n), p[1]]]));
  const hits = [], most = 12;
  let all = 0;
  for (const [key, make] of keys) if (words.every((w) => key.includes(w)) && all++ < most) hits.push(make);
  found.replaceChildren(...hits.map((make) => { const [a, says] = make(); a.addEventListener("click", () => { find.value = ""; found.replaceChildren(); }); if (says) a.append(el("br"), el("span", { class: "soft" }, bdi(says))); return a; }),
    el("p", { class: "soft" }, all ? count(all, "match", "matches") + (all > most ? `, the first ${most}` : "") : "Nothing is called that."));
}
find.addEventListener("input", search);
document.getElementById("search").addEventListener("submit", (e) => { e.preventDefault(); const a = found.querySelector("a"); if (a) a.click(); });
document.addEventListener("keydown", (e) => { if (e.key === "Escape" && found.childElementCount) { find.value = ""; found.replaceChildren(); find.focus(); } });
document.addEventListener("click", (e) => { if (!e.target.closest("#search")) found.replaceChildren(); });
window.addEventListener("hashchange", () => show(false));
show(true);
document.body.dataset.shown = String(Math.round(performance.now()));
