// Keys, dialogs and small comforts. Every key has a visible button; keys never fire while typing.
"use strict";
(() => {
  // Moments are shown and typed in the zone of this browser: it is said with each request from now on.
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  if (zone && !document.cookie.split("; ").includes(`zone=${zone}`))
    document.cookie = `zone=${zone}; path=/; max-age=31536000; samesite=lax${location.protocol === "https:" ? "; secure" : ""}`;
  const typing = (target) => target.closest("input:not([type=checkbox]):not([type=radio]), textarea, select, [contenteditable]");
  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey || event.defaultPrevented) return;
    if (event.key === "Escape" && typing(event.target)) return event.target.blur();
    // A letter is no number: in a field for numbers it is a key as anywhere else (but for the e of 1e5).
    const letter = /^[a-df-z]$/.test(event.key) && event.target.matches?.("input[inputmode=decimal], input[inputmode=numeric]");
    if ((typing(event.target) && !letter) || document.querySelector("dialog[open]")) return;
    // Enter and Space on a focused button or link belong to it, and to no key of the page.
    if ((event.key === "Enter" || event.key === " ") && event.target.closest("a, button, summary, input, [role=button]")) return;
    const keyed = ["key", "also"].map((kind) => document.querySelector(`[data-${kind}="${CSS.escape(event.key)}"]`)).find(Boolean);
    if (keyed) {
      event.preventDefault();
      if (keyed.matches("input, textarea, select, [tabindex='-1']")) {
        keyed.focus();
        keyed.scrollIntoView({ block: "nearest" });
      } else keyed.click();
    }
  });

  document.addEventListener("click", (event) => {
    const opener = event.target.closest("[data-opens]");
    if (opener) document.getElementById(opener.dataset.opens)?.showModal();
    if (event.target.closest("[data-closes]")) event.target.closest("dialog").close();
    if (event.target.closest("[data-prints]")) window.print();
    if (event.target.matches("[data-selects]")) event.target.select();
    const cell = event.target.closest("a.cell");
    if (cell) {
      for (const other of document.querySelectorAll("a.cell[aria-current]")) other.removeAttribute("aria-current");
      cell.setAttribute("aria-current", "true");
    }
  });

  // What was typed before the scripts ran, or was put back by the browser, is asked for once the page is there.
  const asked = new WeakSet();
  document.addEventListener("htmx:beforeRequest", (event) => asked.add(event.target));
  const differs = (field) => {
    if (field.type === "hidden" || field.type === "file") return false;
    if (field.matches("[type=checkbox], [type=radio]")) return field.checked !== field.defaultChecked;
    if (field.matches("select")) return field.selectedIndex !== Math.max([...field.options].findIndex((option) => option.defaultSelected), 0);
    return field.matches("input, textarea") && field.value !== field.defaultValue;
  };
  window.addEventListener("pageshow", () => {
    for (const asker of document.querySelectorAll("[hx-trigger*=input]")) {
      const fields = asker.elements ?? (asker.matches("input, select, textarea") ? [asker] : asker.querySelectorAll("input, select, textarea"));
      if (asked.has(asker) || ![...fields].some(differs)) continue;
      asker.dispatchEvent(new Event("late"));
      asker.dispatchEvent(new Event("input"));  // on itself: a field that belongs to it may stand elsewhere on the page
    }
  });

  // As soon as the last field of a list is begun, a further one appears.
  document.addEventListener("input", (event) => {
    const list = event.target.closest("[data-grows]");
    const row = event.target.closest("[data-grows] > *");
    if (list && row && row.nextElementSibling?.hidden) row.nextElementSibling.hidden = false;
  });

  // A dropped file goes into the file field it was dropped on.
  for (const kind of ["dragover", "dragleave", "drop"])
    document.addEventListener(kind, (event) => {
      const place = event.target.closest?.(".drop");
      if (!place) return;
      event.preventDefault();
      place.classList.toggle("over", kind === "dragover");
      if (kind === "drop" && event.dataTransfer.files.length) {
        const field = place.querySelector("input[type=file]");
        field.files = event.dataTransfer.files;
        field.dispatchEvent(new Event("change", { bubbles: true }));
      }
    });

  // A file that is too large is told before it is sent.
  document.addEventListener("submit", (event) => {
    const field = event.target.querySelector("input[type=file][data-most]");
    const file = field?.files[0];
    if (file && file.size > Number(field.dataset.most)) {
      event.preventDefault();
      field.setCustomValidity(`${file.name} has ${Math.round(file.size / 1e6)} MB; at most ${Math.floor(field.dataset.most / 1e6)} MB are read. Split it, or log at a lower rate.`);
      field.reportValidity();
    }
  });
  document.addEventListener("change", (event) => {
    if (event.target.matches("input[type=file]")) event.target.setCustomValidity("");
    if (event.target.matches("[data-submits]")) event.target.form.requestSubmit();
  });

  // A request that did not get through keeps the page and says so.
  for (const kind of ["htmx:sendError", "htmx:timeout"])
    document.addEventListener(kind, () => tell("The server cannot be reached. Nothing is lost: what you typed is still here. Try again in a moment."));
  document.addEventListener("htmx:responseError", (event) => {
    if (event.detail.xhr.status === 403) tell("You may not do this, or your session has ended. Sign in again in another tab, then try again.");
    else if (event.detail.xhr.status >= 500) tell("Something went wrong on the server. What you typed is still here; the server's log says more.");
  });
  function tell(text) {
    const list = document.getElementById("messages");
    const item = document.createElement("li");
    item.className = "error";
    item.setAttribute("role", "alert");
    item.textContent = text;
    list.replaceChildren(item);
  }

  // The drawer of a working: it takes the focus when it opens and gives it back when it is closed.
  let opener = null;
  document.addEventListener("htmx:beforeRequest", (event) => {
    if (event.detail.target?.id === "working") opener = event.detail.elt;
  });
  document.addEventListener("htmx:afterSettle", (event) => {
    if (event.target.id === "working") event.target.querySelector(".drawer")?.focus();
  });
  const closeDrawer = () => {
    document.getElementById("working")?.replaceChildren();
    (opener?.isConnected ? opener : document.querySelector("[data-key=w]"))?.focus();
  };
  document.addEventListener("click", (event) => {
    if (event.target.closest("[data-empties]")) closeDrawer();
  });
  document.addEventListener("keydown", (event) => {
    if (event.key === "Escape" && document.querySelector("#working .drawer")) closeDrawer();
  });

  // What is typed into a form that keeps is written down in this browser, so that a lost connection, a reload or Back loses none of it.
  // It is forgotten when the server has taken it, which the next page's message says.
  const sentKey = "hauch-sent";
  const accepted = document.querySelector("#messages .success");
  const sent = sessionStorage.getItem(sentKey);
  if (sent) {
    if (accepted) localStorage.removeItem(sent);
    sessionStorage.removeItem(sentKey);
  }
  for (const form of document.querySelectorAll("form[data-keeps]")) {
    const key = `hauch-form-${form.dataset.keeps}`;
    const fields = () => [...form.elements].filter((f) => f.name && f.name !== "csrfmiddlewaretoken" && f.matches("input:not([type=file]):not([type=hidden]), textarea, select"));
    const kept = JSON.parse(localStorage.getItem(key) ?? "null");
    if (kept && !form.querySelector(".error")) {
      let back = 0;
      for (const field of fields())
        if (field.name in kept && field.value !== kept[field.name]) {
          field.value = kept[field.name];
          back += 1;
        }
      const note = form.querySelector("[data-kept-note]");
      if (back && note) note.hidden = false;
    }
    form.addEventListener("input", () => localStorage.setItem(key, JSON.stringify(Object.fromEntries(fields().map((f) => [f.name, f.value])))));
    form.addEventListener("submit", () => sessionStorage.setItem(sentKey, key));
    form.querySelector("[data-forgets]")?.addEventListener("click", () => {
      localStorage.removeItem(key);
      location.reload();
    });
  }
})();
