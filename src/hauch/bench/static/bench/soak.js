// The soak clock of the bench by hand: how long it has soaked, how long still, and where the points that are noted are heading. Both go on
// through a reload.
"use strict";
(() => {
  const place = () => document.querySelector("[data-soak]");
  const log = () => document.querySelector("[data-soak-url]");
  const key = () => `hauch-soak-${place().dataset.soakKey}`;
  const clock = (seconds) => `${Math.floor(seconds / 60)}:${String(Math.floor(seconds % 60)).padStart(2, "0")}`;
  const began = () => Number(sessionStorage.getItem(key()));
  const points = () => JSON.parse(sessionStorage.getItem(`${key()}-points`) ?? "[]");

  function show() {
    if (!place() || !began()) return;
    const soaked = (Date.now() - began()) / 1000, wanted = 60 * Number(place().dataset.soak);
    place().querySelector("[data-soak-starts]").textContent = "Start it again";
    place().querySelector("[data-soak-says]").textContent = !wanted ? `Soaks since ${clock(soaked)}.`
      : soaked < wanted ? `Soaks since ${clock(soaked)}; read in ${clock(wanted - soaked)}.` : `Soaked for ${clock(soaked)}: read now.`;
  }

  function start() {
    sessionStorage.setItem(key(), Date.now());
    keep([]);
    show();
  }

  function keep(noted) {
    sessionStorage.setItem(`${key()}-points`, JSON.stringify(noted));
    tell();
  }

  async function tell() {
    if (!log()) return;
    const noted = points(), says = log().querySelector("[data-soak-forecast]");
    log().querySelector("[data-soak-points]").textContent = noted.slice(-6).map(([at, text]) => `${clock(at)} ${text}`).join(", ");
    log().querySelector("[data-soak-undoes]").hidden = !noted.length;
    if (!noted.length) return;
    const asked = new URLSearchParams(noted.flatMap(([at, text]) => [["at", at.toFixed(1)], ["value", text]]));
    try {
      const answer = await fetch(`${log().dataset.soakUrl}?${asked}`);
      if (answer.ok && points().length === noted.length) says.innerHTML = await answer.text();
    } catch { says.textContent = "No answer from the server; the points are kept here."; }
  }

  function note() {
    const field = document.getElementById("soak-now"), text = field.value.trim();
    if (!text) return field.focus();
    if (!began()) start();
    keep([...points(), [(Date.now() - began()) / 1000, text]]);
    field.value = "";
    field.focus();
  }

  document.addEventListener("click", (event) => {
    if (event.target.closest("[data-soak-starts]")) start();
    if (event.target.closest("[data-soak-notes]")) note();
    if (event.target.closest("[data-soak-undoes]")) keep(points().slice(0, -1));
  });
  document.addEventListener("keydown", (event) => {
    if (event.target.id === "soak-now" && event.key === "Enter") { event.preventDefault(); note(); }
  });
  setInterval(show, 1000);
  for (const kind of ["DOMContentLoaded", "htmx:afterSettle"]) document.addEventListener(kind, () => { show(); tell(); });
})();
