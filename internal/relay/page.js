// Put into pages by omnivigil: reloads the page, or swaps what it is made of, when there is something new.
(() => {
  "use strict";
  if (window.omnivigilListens) return;
  window.omnivigilListens = true;
  const key = "omnivigil:" + location.pathname;
  let count = null;

  // What is on the page is kept over a reload: where it is scrolled to, and what was typed.
  const fields = () => [...document.querySelectorAll("input, textarea, select")].filter(e => e.type !== "password" && e.type !== "file");
  const keep = why => {
    const values = fields().map(e => e.type === "checkbox" || e.type === "radio" ? e.checked : e.multiple ? [...e.options].map(o => o.selected) : e.value);
    const focus = fields().indexOf(document.activeElement);
    try { sessionStorage.setItem(key, JSON.stringify({ x: scrollX, y: scrollY, values, focus, why, at: Date.now() })); } catch (_) { /* then it is not kept */ }
  };
  const restore = () => {
    let kept;
    try { kept = JSON.parse(sessionStorage.getItem(key)); sessionStorage.removeItem(key); } catch (_) { return; }
    if (!kept || Date.now() - kept.at > 30000) return;
    const now = fields();
    if (now.length === kept.values.length) now.forEach((e, i) => {
      const was = kept.values[i];
      if (typeof was === "boolean") { if (e.checked !== was) e.checked = was; }
      else if (Array.isArray(was)) [...(e.options || [])].forEach((o, k) => { o.selected = was[k]; });
      else if (e.value !== was) e.value = was;
    });
    if (kept.focus >= 0 && now[kept.focus]) now[kept.focus].focus({ preventScroll: true });
    scrollTo(kept.x, kept.y);
    say(kept.why);
  };

  // One quiet line in a corner.
  let corner, line, gone;
  const say = (text, stays) => {
    if (!document.body) return;
    if (!corner) {
      corner = document.createElement("div");
      line = corner.attachShadow({ mode: "closed" }).appendChild(document.createElement("div"));
      line.style.cssText = "position:fixed;left:0;bottom:0;z-index:2147483647;max-width:60vw;padding:2px 8px;font:12px/1.5 system-ui,sans-serif;color:#d2dae8;background:#0b1220;opacity:.9;pointer-events:none";
    }
    clearTimeout(gone);
    if (!text) { corner.remove(); return; }
    line.textContent = text;
    line.style.borderLeft = stays ? "4px double #e8b04b" : "4px solid #5fcf9f";
    document.body.append(corner);
    if (!stays) gone = setTimeout(() => corner.remove(), 4000);
  };

  // What the page is not as new as it should be for stays said; the page that says so anyway needs no line.
  const warn = text => { if (!("omnivigilTrouble" in document.documentElement.dataset)) say(text, true); };

  const nameOf = url => { try { return decodeURIComponent(new URL(url, location).pathname.split("/").pop()); } catch (_) { return ""; } };
  const fresh = url => { const u = new URL(url, location); u.searchParams.set("omnivigil", Date.now()); return u.href; };
  const imports = (sheet, names) => {
    try {
      return [...sheet.cssRules].some(r => r instanceof CSSImportRule && (names.has(nameOf(r.href)) || r.styleSheet && imports(r.styleSheet, names)));
    } catch (_) { return false; }
  };
  const shows = (sheet, names) => {
    try { return [...sheet.cssRules].some(r => [...names].some(n => r.cssText.includes(n))); } catch (_) { return false; }
  };

  // A new sheet is loaded beside the old one, which goes when it is there: nothing flashes.
  const swapSheet = link => new Promise(done => {
    const next = link.cloneNode();
    next.href = fresh(link.href);
    next.addEventListener("load", () => { link.remove(); done(); });
    next.addEventListener("error", () => { next.remove(); done(); });
    link.after(next);
  });
  const swap = async (files, text) => {
    const names = new Set(files.map(f => f.split("/").pop()));
    let found = false;
    for (const link of [...document.querySelectorAll('link[rel~="stylesheet"]')]) {
      if (names.has(nameOf(link.href)) || link.sheet && (imports(link.sheet, names) || shows(link.sheet, names))) {
        found = true;
        await swapSheet(link);
      }
    }
    for (const e of document.querySelectorAll("style")) {
      if (e.sheet && imports(e.sheet, names)) { found = true; e.textContent = e.textContent.replace(/(@import\s+(?:url\()?["']?)([^"')\s]+)/g, (all, head, url) => names.has(nameOf(url)) ? head + fresh(url) : all); }
    }
    for (const e of document.querySelectorAll("img[src], input[type=image]")) if (names.has(nameOf(e.src))) { found = true; e.src = fresh(e.src); }
    for (const e of document.querySelectorAll("[srcset]")) if ([...names].some(n => e.srcset.includes(n))) {
      found = true;
      e.srcset = e.srcset.split(",").map(s => { const [url, ...size] = s.trim().split(/\s+/); return [names.has(nameOf(url)) ? fresh(url) : url, ...size].join(" "); }).join(", ");
    }
    for (const e of document.querySelectorAll('link[rel~="icon"]')) if (names.has(nameOf(e.href))) { found = true; e.href = fresh(e.href); }
    if (found) say(text);
    document.documentElement.dataset.omnivigilSwaps = +(document.documentElement.dataset.omnivigilSwaps || 0) + 1;
  };

  const reload = why => { keep(why); location.reload(); };
  const listen = () => {
    const events = new EventSource("/.omnivigil/events?page=" + encodeURIComponent(location.pathname));
    events.onmessage = e => {
      const m = JSON.parse(e.data);
      if (m.do === "hello") {
        if (count !== null && m.count !== count) { reload("reloaded: it has changed meanwhile"); return; }
        count = m.count;
        warn(m.text);
      } else if (m.do === "reload") reload("reloaded: " + m.text);
      else if (m.do === "swap") swap(m.files, m.text);
      else if (m.do === "stale") warn(m.text);
    };
    addEventListener("pagehide", () => events.close());
  };
  if (document.readyState === "loading") addEventListener("DOMContentLoaded", restore); else restore();
  listen();
})();
