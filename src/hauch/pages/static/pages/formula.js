// A name that a formula may use is put where the formula's cursor was.
"use strict";
document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-puts]");
  if (!button) return;
  const field = document.getElementById(button.dataset.into);
  const from = field.selectionStart ?? field.value.length, to = field.selectionEnd ?? from;
  const before = field.value.slice(0, from), space = /[\w)]$/.test(before) ? " " : "";
  field.setRangeText(space + button.dataset.puts, from, to, "end");
  field.focus();
});
