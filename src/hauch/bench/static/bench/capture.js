// Readings typed at the bench: Space takes a reading, Enter accepts, u undoes. Rows are kept in this browser until they are sent.
"use strict";
(() => {
  const form = () => document.getElementById("capture-form");
  const key = () => `hauch-readings-${form().dataset.key}`;
  const inputs = () => [...form().querySelectorAll("[data-channel]")];
  const rows = () => [...form().querySelectorAll("tr.taken-row")];

  // Where several places are read in turn, rows are named by their place.
  const named = (index) => {
    const places = Number(form().dataset.places);
    return places ? `${form().dataset.word} ${(index % places) + 1}` : "";
  };

  function addRow(values) {
    const row = document.createElement("tr");
    row.className = "taken-row";
    const number = document.createElement("td");
    number.textContent = named(rows().length) || rows().length + 1;
    number.className = "quiet";
    row.append(number);
    inputs().forEach((input, index) => {
      const cell = document.createElement("td");
      const hidden = document.createElement("input");
      hidden.type = "hidden";
      hidden.name = input.name;
      hidden.value = values[index] ?? "";
      cell.append(values[index] || "–", hidden);
      row.append(cell);
    });
    form().querySelector("tbody.taken").append(row);
    count();
  }

  // A reading that lies far off the others of its channel is marked; it still counts until somebody takes it back.
  const number = (text) => Number.parseFloat(text.replace(",", ".").replace("−", "-"));
  function markOdd() {
    const places = Number(form().dataset.places);
    inputs().forEach((_, column) => {
      const cells = rows().map((row) => row.children[column + 1]);
      const values = cells.map((cell) => number(cell.querySelector("input").value || "x"));
      cells.forEach((cell, index) => {
        const same = values.filter((value, other) => Number.isFinite(value) && (!places || other % places === index % places)).sort((a, b) => a - b);
        const middle = (list) => (list[(list.length - 1) >> 1] + list[list.length >> 1]) / 2;
        const centre = middle(same), spread = 1.4826 * middle(same.map((value) => Math.abs(value - centre)).sort((a, b) => a - b));
        const odd = same.length >= 3 && Math.abs(values[index] - centre) > Math.max(5 * spread, 0.01 * Math.abs(centre));
        cell.classList.toggle("odd", odd);
        if (odd) cell.title = "far off the other readings";
        else cell.removeAttribute("title");
      });
    });
  }

  // How far the power that the round compares at is off, by what was taken and what stands in the fields.
  function held() {
    const place = document.getElementById("held"), agreed = Number(place?.dataset.agreed);
    if (!agreed) return;
    const mean = (channel) => {
      const column = inputs().findIndex((input) => input.dataset.channel === channel);
      if (column < 0) return Number.NaN;
      const typed = [...rows().map((row) => row.children[column + 1].querySelector("input").value), inputs()[column].value].map((text) => number(text || "x")).filter(Number.isFinite);
      return typed.reduce((sum, value) => sum + value, 0) / typed.length;
    };
    const power = inputs().some((input) => input.dataset.channel === "power") ? mean("power") : mean("voltage") * mean("current");
    const off = 100 * (power / agreed - 1);
    place.classList.toggle("amber", Math.abs(off) > 1);
    place.textContent = !Number.isFinite(off) ? "" : Math.abs(off) <= 1 ? `Held: ${power.toPrecision(3)} W.` : `${power.toPrecision(3)} W is ${Math.abs(off).toFixed(0)} % too ${off > 0 ? "much" : "little"}: set it, and read again.`;
  }

  function count() {
    markOdd();
    held();
    const place = document.getElementById("taken-count");
    const wanted = Number(place.dataset.wanted);
    document.getElementById("now").textContent = named(rows().length) || "now";
    place.textContent = `${rows().length} of ${wanted} readings taken`;
    sessionStorage.setItem(key(), JSON.stringify({
      rows: rows().map((row) => [...row.querySelectorAll("input")].map((input) => input.value)),
      fields: [...form().querySelectorAll("[data-kept]")].map((field) => [field.name, field.value]),
    }));
  }

  function take() {
    const values = inputs().map((input) => input.value.trim());
    if (!values.some(Boolean)) return inputs()[0].focus(), false;
    addRow(values);
    for (const input of inputs()) input.value = "";
    inputs()[0].focus();
    return true;
  }

  function undo() {
    const last = rows().at(-1);
    if (!last) return;
    const values = [...last.querySelectorAll("input")].map((input) => input.value);
    last.remove();
    inputs().forEach((input, index) => { if (!input.value) input.value = values[index]; });
    count();
    inputs()[0].focus();
  }

  // What was typed for a test that other rules replaced in the meantime, where it is still read in the same way.
  function older() {
    const { older: test, choice } = form().dataset;
    const name = test && Object.keys(sessionStorage).find((one) => one.startsWith(`hauch-readings-${test}-${choice}-`));
    if (!name) return null;
    const text = sessionStorage.getItem(name);
    sessionStorage.removeItem(name);
    return text;
  }

  function restore() {
    if (!form() || form().dataset.ready) return;
    form().dataset.ready = "yes";
    const kept = JSON.parse(sessionStorage.getItem(key()) ?? older() ?? "null");
    if (kept && !rows().length) {
      kept.rows.forEach(addRow);
      if (kept.rows.length) for (const input of inputs()) input.value = "";  // what was offered stands in the first row
      for (const [name, value] of kept.fields) {
        const field = form().elements[name];
        if (field && !field.value) field.value = value;
      }
    }
    count();
    (inputs().find((input) => !input.value) ?? inputs()[0])?.focus();
  }

  document.addEventListener("click", (event) => {
    // What still stands in the fields counts as the last reading, and is kept like the others.
    if (event.target.closest("#accept, #show") && inputs().some((input) => input.value.trim())) take();
    if (event.target.closest("#take, [data-takes]")) take();
    if (event.target.closest("#undo")) undo();
  });
  // What was read before a part gave up goes with its row.
  document.getElementById("dnf-form")?.addEventListener("submit", (event) => {
    for (const input of form().querySelectorAll("tr.taken-row input, input[name^=unit-]")) {
      const copy = input.cloneNode();
      copy.type = "hidden";
      event.target.append(copy);
    }
    sessionStorage.removeItem(key());
  });
  document.addEventListener("input", (event) => {
    if (event.target.matches("[data-kept]")) count();
    if (event.target.matches("[data-channel]")) held();
  });
  document.addEventListener("keydown", (event) => {
    if (!event.target.matches?.("[data-channel]")) return;
    if (event.key === " ") { event.preventDefault(); take(); }
    if (event.key === "Enter") { event.preventDefault(); document.getElementById("accept").click(); }
    if (event.key === "u" && !event.target.value) { event.preventDefault(); undo(); }
  });
  // Rows that are pasted from a spreadsheet are readings, from the field on into which they were pasted; a line of words is a heading.
  document.addEventListener("paste", (event) => {
    if (!event.target.matches?.("[data-channel]")) return;
    const text = event.clipboardData.getData("text").trim();
    if (!/[\n\t]/.test(text)) return;
    event.preventDefault();
    const from = inputs().indexOf(event.target);
    for (const line of text.split(/\r?\n/)) {
      const cells = line.split("\t").map((cell) => cell.trim());
      if (!cells.some((cell) => Number.isFinite(number(cell)))) continue;
      addRow(inputs().map((_, index) => (index < from ? "" : cells[index - from] ?? "")));
    }
    inputs()[0].focus();
  });

  // Without a network a run that is accepted waits in this browser, and is sent once when the server answers again. Its form's key
  // makes sure that it is recorded once, even if an answer got lost on the way.
  const queueKey = "hauch-queue";
  const queue = () => JSON.parse(localStorage.getItem(queueKey) ?? "[]");
  const keepQueue = (items) => { localStorage.setItem(queueKey, JSON.stringify(items)); tellQueue(); };
  let sending = false;

  function tellQueue() {
    const place = document.getElementById("waiting-runs"), items = queue();
    if (!place) return;
    place.hidden = !items.length;
    const stuck = items.filter((item) => item.problem);
    place.querySelector("[data-says]").textContent = stuck.length
      ? `${stuck[0].name}: ${stuck[0].problem}`
      : `${items.length} ${items.length === 1 ? "run waits" : "runs wait"} in this browser for the server (${items.map((item) => item.name).join("; ")}). Go on measuring; they are sent by themselves.`;
    place.querySelector("[data-drops]").hidden = !stuck.length;
  }

  function wait(submitter) {
    const data = new URLSearchParams(new FormData(form(), submitter ?? document.getElementById("accept")));
    const started = data.get("started_at") || new Date(Date.now() - new Date().getTimezoneOffset() * 60000).toISOString().slice(0, 16);
    data.set("started_at", started);
    data.delete("csrfmiddlewaretoken");
    keepQueue([...queue(), { url: new URL(form().getAttribute("action"), location.href).href, body: data.toString(), name: document.querySelector("#capture h1").textContent.trim() }]);
    sessionStorage.removeItem(key());
    rows().forEach((row) => row.remove());
    // A new key, so that the next run is another one.
    form().elements.form_key.value = crypto.randomUUID?.() ?? "10000000-1000-4000-8000-100000000000".replace(/[018]/g, (c) => (c ^ (crypto.getRandomValues(new Uint8Array(1))[0] & (15 >> (c / 4)))).toString(16));
    count();
    inputs()[0]?.focus();
  }

  async function send() {
    if (sending || !queue().length) return;
    sending = true;
    try {
      for (const item of queue().filter((one) => !one.problem)) {
        const headers = { "HX-Request": "true", "Content-Type": "application/x-www-form-urlencoded", "X-CSRFToken": JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"] };
        const answer = await fetch(item.url, { method: "POST", body: item.body, headers, redirect: "manual" });
        if (answer.status === 204) keepQueue(queue().filter((other) => other.body !== item.body));
        else if (answer.status === 422 || answer.status === 409) {
          const page = new DOMParser().parseFromString(await answer.text(), "text/html");
          const why = [...page.querySelectorAll(".problems li, .error")].map((place) => place.textContent.trim()).join(" ") || "The server did not take it; the rules may have changed.";
          keepQueue(queue().map((other) => (other.body === item.body ? { ...other, problem: why } : other)));
        } else break; // signed out, or the server is in trouble: try again later
      }
    } catch { /* still no network */ } finally {
      sending = false;
      tellQueue();
    }
  }

  for (const kind of ["htmx:sendError", "htmx:timeout"])
    document.addEventListener(kind, (event) => {
      if (event.detail.elt !== form() && event.detail.requestConfig?.elt !== form()) return;
      wait(event.detail.requestConfig?.triggeringEvent?.submitter);
      document.getElementById("messages").replaceChildren(); // the general sentence does not hold here: it is kept
    });
  window.addEventListener("online", send);
  setInterval(send, 4000);
  document.addEventListener("DOMContentLoaded", () => { tellQueue(); send(); });
  document.addEventListener("click", (event) => {
    if (event.target.closest("[data-drops]")) keepQueue(queue().filter((one) => !one.problem));
  });

  document.addEventListener("htmx:afterRequest", (event) => {
    if (event.detail.requestConfig?.elt === form() && event.detail.xhr.status === 204) sessionStorage.removeItem(key());
  });
  document.addEventListener("htmx:afterSettle", restore);
  document.addEventListener("DOMContentLoaded", restore);
})();
