// A number pad on the screen for one hand: shown by itself where there is only touch, else on request; it types into the field that has the focus.
"use strict";
(() => {
  const choice = "hauch-number-pad";
  const pad = () => document.getElementById("number-pad");
  const fields = () => [...document.querySelectorAll("#capture-form input[data-decimal]")];
  const wanted = () => (localStorage.getItem(choice) ?? (matchMedia("(hover: none) and (pointer: coarse)").matches ? "yes" : "no")) === "yes";
  let last = null;

  function show() {
    if (!pad()) return;
    pad().hidden = !wanted();
    document.getElementById("pad-toggle").setAttribute("aria-pressed", String(wanted()));
    // The device's own keyboard stays down while the pad is there.
    for (const field of fields()) field.inputMode = wanted() ? "none" : "decimal";
  }

  const field = () => (last?.isConnected ? last : fields()[0]);

  function type(text) {
    const at = field();
    at.focus();
    at.setRangeText(text, at.selectionStart, at.selectionEnd, "end");
    at.dispatchEvent(new Event("input", { bubbles: true }));
  }

  function back() {
    const at = field();
    at.focus();
    const from = at.selectionStart === at.selectionEnd ? Math.max(at.selectionStart - 1, 0) : at.selectionStart;
    at.setRangeText("", from, at.selectionEnd, "end");
    at.dispatchEvent(new Event("input", { bubbles: true }));
  }

  function next() {
    const all = fields();
    all[(all.indexOf(field()) + 1) % all.length].focus();
  }

  document.addEventListener("focusin", (event) => { if (event.target.matches("#capture-form input[data-decimal]")) last = event.target; });
  // A press must not take the focus from the field.
  document.addEventListener("pointerdown", (event) => { if (event.target.closest("#number-pad")) event.preventDefault(); });
  document.addEventListener("click", (event) => {
    if (event.target.closest("#pad-toggle")) {
      localStorage.setItem(choice, wanted() ? "no" : "yes");
      show();
      if (wanted()) field().focus();
      return;
    }
    const key = event.target.closest("#number-pad [data-types], #number-pad [data-does]");
    if (!key) return;
    if (key.dataset.types) type(key.dataset.types);
    else if (key.dataset.does === "back") back();
    else if (key.dataset.does === "next") next();
  });
  document.addEventListener("htmx:load", show);
  document.addEventListener("DOMContentLoaded", show);
})();
