// Runs in the pages of Tugline's page server: shows what is new.
(() => {
  const own = new URL(document.currentScript.src);
  let version = own.searchParams.get("version");
  let notice = null;

  function connect() {
    const events = new EventSource("/.tugline/events?version=" + encodeURIComponent(version));
    events.addEventListener("reload", () => {
      events.close();
      location.reload();
    });
    events.addEventListener("styles", (e) => swap(JSON.parse(e.data)));
    events.addEventListener("failed", (e) => failed(JSON.parse(e.data)));
    events.addEventListener("mended", mended);
    events.addEventListener("error", () => {
      events.close();
      setTimeout(connect, 500); // with the version that the page has by then
    });
  }

  function swap({ paths, version: next }) {
    version = next;
    const sheets = [...document.querySelectorAll('link[rel~="stylesheet"][href]')].filter((l) => new URL(l.href).origin === location.origin);
    const named = sheets.filter((l) => paths.includes(decodeURI(new URL(l.href).pathname)));
    // A sheet that no page names is taken in by another one: then all are read again.
    for (const old of named.length ? named : sheets) {
      const fresh = old.cloneNode();
      const at = new URL(old.href);
      at.searchParams.set("refresh", next);
      fresh.href = at.href;
      fresh.addEventListener("load", () => old.remove(), { once: true });
      fresh.addEventListener("error", () => fresh.remove(), { once: true });
      old.after(fresh);
    }
  }

  function failed({ task, lines }) {
    mended();
    notice = document.createElement("div");
    notice.setAttribute("role", "status");
    const s = notice.style;
    s.position = "fixed";
    s.left = s.right = s.bottom = "0";
    s.zIndex = "2147483647";
    s.maxHeight = "40vh";
    s.overflow = "auto";
    s.padding = "0.75rem 1rem";
    s.background = "#3b1116";
    s.color = "#fff";
    s.font = "14px/1.4 ui-monospace, monospace";
    s.whiteSpace = "pre-wrap";
    const title = document.createElement("strong");
    title.textContent = "task " + task + " failed: this page is as it was before";
    notice.append(title, "\n" + lines.join("\n"));
    document.body.append(notice);
  }

  function mended() {
    if (notice) {
      notice.remove();
      notice = null;
    }
  }

  connect();
})();
