// The soak clock of the bench by hand: how long it has soaked, and how long still. It goes on through a reload.
"use strict";
(() => {
  const place = () => document.querySelector("[data-soak]");
  const key = () => `hauch-soak-${place().dataset.soakKey}`;
  const clock = (seconds) => `${Math.floor(seconds / 60)}:${String(Math.floor(seconds % 60)).padStart(2, "0")}`;

  function show() {
    if (!place()) return;
    const began = Number(sessionStorage.getItem(key()));
    if (!began) return;
    const soaked = (Date.now() - began) / 1000, wanted = 60 * Number(place().dataset.soak);
    place().querySelector("[data-soak-starts]").textContent = "Start it again";
    place().querySelector("[data-soak-says]").textContent = !wanted ? `Soaks since ${clock(soaked)}.`
      : soaked < wanted ? `Soaks since ${clock(soaked)}; read in ${clock(wanted - soaked)}.` : `Soaked for ${clock(soaked)}: read now.`;
  }

  document.addEventListener("click", (event) => {
    if (!event.target.closest("[data-soak-starts]")) return;
    sessionStorage.setItem(key(), Date.now());
    show();
  });
  setInterval(show, 1000);
  document.addEventListener("DOMContentLoaded", show);
  document.addEventListener("htmx:afterSettle", show);
})();
