// Plays several sounds together from one place, heard one at a time: switching makes no gap and loses no place. Starts quiet.
"use strict";
(() => {
  const place = document.querySelector("[data-together]");
  if (!place) return;
  const told = JSON.parse(document.getElementById(place.dataset.together).textContent);
  const plays = place.querySelector("[data-plays]"), says = place.querySelector("[data-says]"), volume = place.querySelector("[data-volume]"), at = place.querySelector("[data-at]");
  const buttons = [...place.querySelectorAll("[data-hears]")];
  let audio = null, buffers = null, sources = [], gains = [], out = null, heard = 0, began = 0, length = 0;

  const loud = () => (Number(volume.value) / 100) ** 2;
  const equal = () => place.querySelector("[name=equal]:checked")?.value ?? told.equal;
  const factor = (i) => told.sounds[i].gain[equal()];

  async function load() {
    audio ??= new AudioContext();
    await audio.resume();
    if (buffers) return;
    says.textContent = "Loading the sounds.";
    buffers = await Promise.all(told.sounds.map(async (one) => {
      const answer = await fetch(one.url);
      if (!answer.ok) throw new Error(answer.statusText);
      return audio.decodeAudioData(await answer.arrayBuffer());
    }));
    length = Math.min(...buffers.map((buffer) => buffer.duration));
    says.textContent = "";
  }

  async function start() {
    plays.disabled = true;
    try {
      await load();
    } catch { says.textContent = "The sounds could not be loaded. Try again."; plays.disabled = false; return; }
    plays.disabled = false;
    out = new GainNode(audio, { gain: 0 });
    out.connect(audio.destination);
    out.gain.linearRampToValueAtTime(loud(), audio.currentTime + 0.4);
    const then = audio.currentTime + 0.05;
    gains = buffers.map((_, i) => new GainNode(audio, { gain: i === heard ? factor(i) : 0 }));
    sources = buffers.map((buffer, i) => {
      const source = new AudioBufferSourceNode(audio, { buffer, loop: true, loopStart: 0, loopEnd: length });
      source.connect(gains[i]).connect(out);
      source.start(then);
      return source;
    });
    began = then;
    plays.firstChild.textContent = "Stop ";
    place.dataset.playing = "yes";
    requestAnimationFrame(follow);
  }

  function stop() {
    for (const source of sources) source.stop();
    sources = [];
    plays.firstChild.textContent = "Play ";
    place.dataset.playing = "";
  }

  function hear(i) {
    heard = i;
    buttons.forEach((button, k) => button.setAttribute("aria-pressed", String(k === i)));
    place.dataset.heard = told.sounds[i].name;
    if (!sources.length) return;
    gains.forEach((gain, k) => gain.gain.setTargetAtTime(k === i ? factor(k) : 0, audio.currentTime, 0.004));
  }

  function follow() {
    if (!sources.length) return;
    const now = Math.max(audio.currentTime - began, 0) % length;
    at.value = now / length;
    place.dataset.at = now.toFixed(2);
    requestAnimationFrame(follow);
  }

  plays.addEventListener("click", () => (sources.length ? stop() : start()));
  buttons.forEach((button, i) => button.addEventListener("click", () => { hear(i); if (!sources.length) start(); }));
  volume.addEventListener("input", () => out?.gain.setTargetAtTime(loud(), audio.currentTime, 0.05));
  for (const choice of place.querySelectorAll("[name=equal]")) choice.addEventListener("change", () => hear(heard));
  hear(0);
})();
