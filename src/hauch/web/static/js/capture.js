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
    return places ? `place ${(index % places) + 1}` : "";
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

  function count() {
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
    const name = test && Object.keys(sessionStorage).find((name) => name.startsWith(`hauch-readings-${test}-${choice}-`));
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
    if (event.target.closest("#take")) take();
    if (event.target.closest("#undo")) undo();
  });
  document.addEventListener("input", (event) => { if (event.target.matches("[data-kept]")) count(); });
  document.addEventListener("keydown", (event) => {
    if (!event.target.matches?.("[data-channel]")) return;
    if (event.key === " ") { event.preventDefault(); take(); }
    if (event.key === "Enter") { event.preventDefault(); document.getElementById("accept").click(); }
    if (event.key === "u" && !event.target.value) { event.preventDefault(); undo(); }
  });
  document.addEventListener("htmx:afterRequest", (event) => {
    if (event.detail.requestConfig?.elt === form() && event.detail.xhr.status === 204) sessionStorage.removeItem(key());
  });
  document.addEventListener("htmx:afterSettle", restore);
  document.addEventListener("DOMContentLoaded", restore);
})();
