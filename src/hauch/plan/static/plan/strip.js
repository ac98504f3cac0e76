// The strip of the day: a block is dragged, or moved with the arrow keys, and pinned where it is let go.
"use strict";
(() => {
  const GRID = 5;
  const strip = () => document.querySelector("[data-strip]");
  const ofUnit = (unit) => [...strip().querySelectorAll(".step")].filter((step) => step.dataset.unit === unit);
  let moving = null;

  const perPixel = (svg) => svg.viewBox.baseVal.width / svg.getBoundingClientRect().width / Number(strip().dataset.perMinute);

  function shift(minutes) {
    const x = minutes * Number(strip().dataset.perMinute);
    for (const step of moving.steps) {
      step.setAttribute("transform", `translate(${x} 0)`);
      step.classList.toggle("moving", minutes !== 0);
    }
    moving.minutes = minutes;
  }

  function start(step) {
    const steps = ofUnit(step.dataset.unit);
    const first = steps.reduce((a, b) => (Number(b.dataset.at) < Number(a.dataset.at) ? b : a));
    moving = { unit: step.dataset.unit, steps, first, minutes: 0 };
  }

  function drop() {
    const { first, minutes } = moving;
    const at = Math.max(Math.round((Number(first.dataset.at) + minutes) / GRID) * GRID, 0);
    moving = null;
    htmx.ajax("POST", `/plan/steps/${first.dataset.step}/pin/`, { values: { minute: at }, swap: "none" });
  }

  function cancel() {
    if (!moving) return;
    shift(0);
    moving = null;
  }

  document.addEventListener("pointerdown", (event) => {
    const step = event.target.closest?.("[data-may-move] .step.open");
    if (!step || event.button !== 0) return;
    const svg = step.closest("figure").querySelector("svg");
    start(step);
    moving.from = event.clientX;
    moving.perPixel = perPixel(svg);
    event.preventDefault();
  });
  document.addEventListener("pointermove", (event) => {
    if (moving?.from === undefined) return;
    shift(Math.round(((event.clientX - moving.from) * moving.perPixel) / GRID) * GRID);
  });
  document.addEventListener("pointerup", () => {
    if (moving?.from === undefined) return;
    if (moving.minutes) drop();
    else {
      moving.first.focus();
      moving = null;
    }
  });
  document.addEventListener("keydown", (event) => {
    const step = event.target.closest?.("[data-strip] .step");
    if (!step) return;
    const by = { ArrowLeft: -GRID, ArrowRight: GRID }[event.key];
    if (by && step.matches("[data-may-move] .step.open")) {
      if (moving?.unit !== step.dataset.unit) start(step);
      shift(moving.minutes + by);
      event.preventDefault();
    } else if (event.key === "Enter" || event.key === " ") {
      event.preventDefault();
      if (moving?.minutes) drop();
      else htmx.trigger(step, "chosen");
    } else if (event.key === "Escape") cancel();
  });
  document.addEventListener("focusout", (event) => {
    if (moving && moving.from === undefined && event.target.closest?.(".step")) cancel();
  });
})();
