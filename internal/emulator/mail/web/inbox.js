// The inbox: a list of mails that renews itself, and one of them. What mails say is
// only ever put in as text; their HTML is shown in a frame that runs nothing.
"use strict";

const at = (id) => document.getElementById(id);
let shown = null; // the mail that is read
let tab = "html", wide = "full", scheme = "light";
let mails = [], more = false, limit = 100, known = new Set(), first = true;

async function ask(path, options) {
  const answer = await fetch(path, options);
  const body = await answer.json();
  if (!answer.ok) throw new Error(body.error);
  return body;
}

function make(name, text, kind) {
  const e = document.createElement(name);
  if (text !== undefined) e.textContent = text;
  if (kind) e.className = kind;
  return e;
}

function age(time) {
  const s = (Date.now() - new Date(time)) / 1000;
  if (s < 60) return "now";
  if (s < 3600) return Math.floor(s / 60) + " min";
  if (s < 86400) return Math.floor(s / 3600) + " h";
  return new Date(time).toLocaleDateString(undefined, { day: "numeric", month: "short" });
}

async function list() {
  const q = at("search").value.trim();
  const got = await ask("messages?limit=" + limit + "&q=" + encodeURIComponent(q));
  mails = got.messages;
  more = got.more;
  at("count").textContent = got.count === 0 ? "" : got.count + (got.count === 1 ? " mail" : " mails") + (got.unseen ? ", " + got.unseen + " unread" : "");
  document.title = (got.unseen ? "(" + got.unseen + ") " : "") + "Mail";
  at("clear").disabled = got.count === 0;
  draw();
  const none = at("nothing");
  none.hidden = shown !== null || mails.length > 0 && !matchMedia("(min-width: 46rem)").matches;
  none.textContent = mails.length === 0
    ? (q ? "No mail has these words in it." : "No mail yet. What your app sends comes in here by itself; nothing is delivered.")
    : "Choose a mail to read it.";
}

// The rows that are there, by their mails. They are renewed in their places: one that
// took another's place between the press and the release of a button would lose the click.
const rows = new Map();

function row(m) {
  const li = make("li");
  if (!first && !known.has(m.id)) li.classList.add("fresh");
  known.add(m.id);
  li.append(make("span", m.subject || "(no subject)", "subject"), make("time", age(m.at)));
  li.append(make("span", m.from + " → " + m.to.join(", ") + (m.attachments ? " · " + m.attachments + (m.attachments === 1 ? " attachment" : " attachments") : ""), "who"));
  li.dataset.id = m.id;
  li.onclick = () => read(m.id);
  return li;
}

const older = make("li", "older mails", "more");
older.onclick = () => { limit = Math.min(1000, limit * 3); list(); };

function draw() {
  const ids = new Set(mails.map((m) => m.id));
  for (const [id, li] of rows) {
    if (!ids.has(id)) {
      li.remove();
      rows.delete(id);
    }
  }
  if (!more) older.remove();
  let next = at("list").firstChild;
  for (const m of mails) {
    if (!rows.has(m.id)) rows.set(m.id, row(m));
    const li = rows.get(m.id), time = li.querySelector("time");
    li.classList.toggle("unseen", !m.seen);
    if (shown && shown.id === m.id) li.setAttribute("aria-current", "true");
    else li.removeAttribute("aria-current");
    if (time.textContent !== age(m.at)) time.textContent = age(m.at);
    if (li === next) next = li.nextSibling;
    else at("list").insertBefore(li, next);
  }
  if (more && !older.isConnected) at("list").append(older);
  first = false;
}

async function read(id) {
  shown = await ask("messages/" + id);
  await fetch("messages/" + id + "/seen", { method: "POST" });
  history.replaceState(null, "", "#" + id);
  document.body.classList.add("reading");
  at("mail").hidden = false;
  at("nothing").hidden = true;
  at("subject").textContent = shown.subject || "(no subject)";
  const heads = [["from", shown.from_header || shown.from], ["to", shown.to.filter((a) => !shown.bcc.includes(a)).join(", ")], ["cc", shown.cc], ["bcc", shown.bcc.join(", ")], ["reply to", shown.reply_to], ["came", new Date(shown.at).toLocaleString()]];
  at("heads").replaceChildren(...heads.filter((h) => h[1]).flatMap((h) => [make("dt", h[0]), make("dd", h[1])]));
  at("problems").replaceChildren(...shown.problems.map((p) => make("li", p)));
  at("parts").replaceChildren(...shown.parts.slice(0, 400).map((p, i) => {
    const li = make("li"), a = make("a", p.name || p.type || "part " + (i + 1));
    a.href = "messages/" + id + "/parts/" + i;
    a.download = "";
    li.append(a, " " + size(p.size));
    return li;
  }));
  stage();
}

function size(n) {
  if (n < 1024) return n + " B";
  if (n < 1 << 20) return Math.round(n / 1024) + " KB";
  return (n / (1 << 20)).toFixed(1) + " MB";
}

async function stage() {
  const id = shown.id, s = at("stage");
  document.querySelectorAll("[data-tab]").forEach((b) => b.setAttribute("aria-pressed", b.dataset.tab === tab));
  document.querySelectorAll("[data-width]").forEach((b) => b.setAttribute("aria-pressed", b.dataset.width === wide));
  document.querySelectorAll("[data-scheme]").forEach((b) => b.setAttribute("aria-pressed", b.dataset.scheme === scheme));
  at("looks").hidden = tab !== "html";
  if (tab === "html") {
    const f = document.createElement("iframe");
    f.setAttribute("sandbox", "allow-popups allow-popups-to-escape-sandbox");
    f.title = "the mail as it looks";
    f.className = scheme + " " + (wide === "phone" ? "phone" : "");
    f.src = "messages/" + id + "/html";
    s.replaceChildren(f);
    return;
  }
  let text = shown.readable;
  if (tab === "readable" && shown.links.length) text += "\n\n" + shown.links.map((l, i) => "[" + (i + 1) + "] " + l).join("\n");
  if (tab === "headers") text = shown.headers.map((h) => h.name + ": " + h.value).join("\n");
  if (tab === "source") text = await (await fetch("messages/" + id + "/source")).text();
  if (shown && shown.id === id) s.replaceChildren(make("pre", text));
}

function leave() {
  shown = null;
  document.body.classList.remove("reading");
  at("mail").hidden = true;
  history.replaceState(null, "", "#");
  list();
}

document.querySelectorAll("[data-tab]").forEach((b) => b.onclick = () => { tab = b.dataset.tab; stage(); });
document.querySelectorAll("[data-width]").forEach((b) => b.onclick = () => { wide = b.dataset.width; stage(); });
document.querySelectorAll("[data-scheme]").forEach((b) => b.onclick = () => { scheme = b.dataset.scheme; stage(); });
at("back").onclick = leave;
at("delete").onclick = async () => { await ask("messages/" + shown.id, { method: "DELETE" }); leave(); };
at("clear").onclick = async () => {
  if (!confirm("Delete all mails? They are gone for good.")) return;
  await ask("messages", { method: "DELETE" });
  leave();
};
at("search").oninput = () => { limit = 100; list(); };
at("list").onkeydown = (e) => {
  const by = { ArrowDown: 1, ArrowUp: -1 }[e.key];
  if (!by || mails.length === 0) return;
  e.preventDefault();
  const i = mails.findIndex((m) => shown && m.id === shown.id);
  read(mails[Math.min(mails.length - 1, Math.max(0, i + by))].id);
};
setInterval(draw, 60000);

new EventSource("events").onmessage = () => list();
if (location.hash.length > 1) read(location.hash.slice(1)).catch(leave);
