// A slider and the figure beside it are one weight: what is moved in one stands in the other.
"use strict";
(() => {
  document.addEventListener("input", (event) => {
    const slider = event.target.closest("[data-slides]");
    if (slider) {
      document.getElementById(slider.dataset.slides).value = Number(slider.value).toPrecision(3).replace(/\.?0+$/, "");
      return;
    }
    const other = event.target.id && document.querySelector(`[data-slides="${CSS.escape(event.target.id)}"]`);
    if (other) other.value = event.target.value.replace(",", ".");
  }, true);
})();
