// The Desk: inputs that count only with a choice, curves with handles, steps by arrow keys.
"use strict";
(() => {
  const form = document.getElementById("tool");
  if (!form) return;
  const SVG = "http://www.w3.org/2000/svg";
  const number = (field) => Number.parseFloat(field.value.replace(",", ".").replace("−", "-"));
  const changed = (field) => field.dispatchEvent(new Event("input", { bubbles: true }));

  function showWhatCounts() {
    for (const row of form.querySelectorAll("[data-shown]")) {
      const [key, values] = row.dataset.shown.split("=");
      row.hidden = !values.split(",").includes(form.elements[key]?.value);
    }
  }

  // Arrow keys step a figure by about a fiftieth of it, with Shift by a tenth of that.
  function step(field, direction, fine) {
    const value = number(field);
    if (!Number.isFinite(value)) return;
    const whole = Number.isInteger(value) && Math.abs(value) < 100 && !field.dataset.broken;
    const size = 10 ** Math.floor(Math.log10(Math.max(Math.abs(value), 1e-3) / 2)) / (Math.abs(value) >= 10 ? 10 : 5);
    const by = whole && /blades|series|parallel/.test(field.name) ? 1 : size / (fine ? 10 : 1);
    field.value = String(Number((value + direction * by).toPrecision(9)));
    changed(field);
  }
  form.addEventListener("keydown", (event) => {
    if (!event.target.matches("input[inputmode=decimal]") || !["ArrowUp", "ArrowDown"].includes(event.key)) return;
    event.preventDefault();
    step(event.target, event.key === "ArrowUp" ? 1 : -1, event.shiftKey);
  });
  // A field of its own kind of Enter: it asks for the answer, and does not press the first button of the form.
  form.addEventListener("keydown", (event) => {
    if (event.key === "Enter" && event.target.matches("input:not([type=checkbox]), select")) {
      event.preventDefault();
      if (event.target.id === "do_name") form.requestSubmit(form.querySelector("button.first"));
      else changed(event.target);
    }
  });

  // A curve: five points over the radius, dragged or moved by arrow keys; the fields beneath say the same in figures.
  function curve(set) {
    const svg = set.querySelector("svg.handles");
    const fields = [...set.querySelectorAll("input")];
    const line = document.createElementNS(SVG, "polyline");
    line.setAttribute("class", "curve-line");
    svg.replaceChildren(line);
    let low = 0, high = 1;
    const x = (i) => 14 + (i * 272) / (fields.length - 1);
    const y = (v) => 64 - ((v - low) / (high - low)) * 56;
    const range = () => {
      const values = fields.map(number).filter(Number.isFinite);
      if (!values.length) return;
      const spread = Math.max(Math.max(...values) - Math.min(...values), 0.4 * Math.max(...values.map(Math.abs)), 1e-6);
      low = Math.min(...values) - 0.35 * spread;
      high = Math.max(...values) + 0.35 * spread;
    };
    const handles = fields.map((field) => {
      const handle = document.createElementNS(SVG, "circle");
      handle.setAttribute("class", "handle");
      handle.setAttribute("r", "6");
      handle.setAttribute("tabindex", "0");
      handle.setAttribute("role", "slider");
      handle.setAttribute("aria-label", field.getAttribute("aria-label"));
      svg.append(handle);
      handle.addEventListener("keydown", (event) => {
        const way = { ArrowUp: 1, ArrowRight: 1, ArrowDown: -1, ArrowLeft: -1 }[event.key];
        if (!way) return;
        event.preventDefault();
        step(field, way, event.shiftKey);
      });
      handle.addEventListener("pointerdown", (event) => {
        event.preventDefault();
        handle.focus();
        handle.setPointerCapture(event.pointerId);
        const move = (at) => {
          const box = svg.getBoundingClientRect();
          const place = ((at.clientY - box.top) / box.height) * 72;
          const value = low + ((64 - Math.min(Math.max(place, 4), 68)) / 56) * (high - low);
          field.value = String(Number(value.toPrecision(3)));
          changed(field);
        };
        const end = () => {
          handle.removeEventListener("pointermove", move);
          range();
          draw();
        };
        handle.addEventListener("pointermove", move);
        handle.addEventListener("pointerup", end, { once: true });
        handle.addEventListener("pointercancel", end, { once: true });
        handle.dataset.dragging = "yes";
        handle.addEventListener("lostpointercapture", () => delete handle.dataset.dragging, { once: true });
      });
      return handle;
    });
    function draw() {
      const values = fields.map(number);
      if (!handles.some((handle) => handle.dataset.dragging) && values.some((v) => v < low || v > high)) range();
      line.setAttribute("points", values.map((v, i) => (Number.isFinite(v) ? `${x(i)},${y(v)}` : "")).join(" "));
      handles.forEach((handle, i) => {
        if (!Number.isFinite(values[i])) return;
        handle.setAttribute("cx", x(i));
        handle.setAttribute("cy", y(values[i]));
        handle.setAttribute("aria-valuenow", values[i]);
        handle.setAttribute("aria-valuetext", `${fields[i].value}`);
      });
    }
    range();
    draw();
    set.addEventListener("input", draw);
  }
  for (const set of form.querySelectorAll("[data-curve]")) curve(set);
  // A table grows by a row as soon as its last one is begun.
  form.addEventListener("input", (event) => {
    const row = event.target.closest(".rows-table tbody tr"), table = row?.closest("[data-most]");
    if (!row || row.nextElementSibling || !event.target.value || row.parentElement.children.length >= Number(table.dataset.most)) return;
    const next = row.cloneNode(true), on = (text) => text.replace(/_(\d+)_/, (_, n) => `_${Number(n) + 1}_`);
    for (const part of next.querySelectorAll("[name], [id], [for]")) {
      for (const name of ["name", "id", "for", "aria-describedby"]) if (part.hasAttribute(name)) part.setAttribute(name, on(part.getAttribute(name)));
      if (part.matches("input")) part.value = "";
      if (part.matches("label")) part.textContent = part.textContent.replace(/\d+$/, (n) => Number(n) + 1);
    }
    row.after(next);
  });
  form.addEventListener("input", showWhatCounts);
  showWhatCounts();

  // At most three others are compared: a fourth tick takes the first away.
  form.addEventListener("change", (event) => {
    if (!event.target.matches("[name=with]")) return;
    const ticked = [...form.querySelectorAll("[name=with]:checked")];
    if (ticked.length > 3) ticked.find((box) => box !== event.target).checked = false;
  });

  form.addEventListener("late", () => {
    for (const set of form.querySelectorAll("[data-curve]")) set.dispatchEvent(new Event("input"));
  });

  // What is typed shows in the drawing: its dimension, or the part of it that a row of the table says.
  function showInDrawing() {
    const name = form.contains(document.activeElement) ? document.activeElement.name ?? "" : "";
    for (const part of document.querySelectorAll("#answer [data-of]"))
      part.classList.toggle("on", part.dataset.of === name || name.startsWith(`${part.dataset.of}_`));
  }
  form.addEventListener("focusin", showInDrawing);
  form.addEventListener("focusout", () => setTimeout(showInDrawing));
  document.addEventListener("htmx:afterSwap", (event) => {
    if (event.target.id === "answer" || event.detail.target?.id === "answer") showInDrawing();
  });

  // The time from the last key to the picture, for those who measure it.
  document.addEventListener("htmx:afterSettle", (event) => {
    if (event.target.id === "answer") document.body.dataset.answered = String(performance.now());
  });
})();
