// The board of the workshop by keys: j and k go from card to card, Enter opens one, m moves it on.
"use strict";
(() => {
  const cards = () => [...document.querySelectorAll("[data-card]")];
  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey || event.target.closest("input:not([type=checkbox]), textarea, select, dialog")) return;
    const all = cards(), at = all.indexOf(document.activeElement?.closest("[data-card]"));
    if (event.key === "j" || event.key === "k") {
      event.preventDefault();
      const next = all[at < 0 ? 0 : Math.min(Math.max(at + (event.key === "j" ? 1 : -1), 0), all.length - 1)];
      next?.focus();
      next?.scrollIntoView({ block: "nearest", inline: "nearest" });
    } else if (at >= 0 && event.key === "m") {
      event.preventDefault();
      all[at].querySelector("[data-moves]")?.click();
    } else if (at >= 0 && event.key === "Enter" && event.target === all[at]) {
      event.preventDefault();
      location.assign(all[at].dataset.card);
    }
  });
})();
