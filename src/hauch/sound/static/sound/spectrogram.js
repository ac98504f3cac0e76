// The spectrogram of a recording: drawn from a thinned grid, a zoomed stretch in detail; played with a line that moves on it.
"use strict";
(() => {
  const place = document.querySelector("[data-spectrogram]");
  if (!place) return;
  const told = JSON.parse(document.getElementById(place.dataset.spectrogram).textContent);
  const canvas = place.querySelector("canvas"), stage = canvas.parentElement;
  const says = place.querySelector("[data-says]"), plays = place.querySelector("[data-plays]"), loops = place.querySelector("[data-loops]");
  const LEFT = 52, BOTTOM = 22, TOP = 4;
  let shown = [0, told.seconds], cells = null, picture = null, at = told.used[0], drag = null, asked = 0;

  const ink = (name) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();
  const rgb = (hex) => [1, 3, 5].map((i) => parseInt(hex.slice(i, i + 2), 16));
  const wide = () => canvas.width / devicePixelRatio - LEFT, high = () => canvas.height / devicePixelRatio - BOTTOM - TOP;
  const xOf = (t) => LEFT + (t - shown[0]) / (shown[1] - shown[0]) * wide();
  const tOf = (x) => shown[0] + (x - LEFT) / wide() * (shown[1] - shown[0]);
  const yOf = (f) => TOP + high() * (1 - Math.log(f / told.lowest) / Math.log(told.highest / told.lowest));

  // From the paper over the accent to the ink: louder is further from the paper, in light and dark.
  function palette() {
    const [a, b, c] = [rgb(ink("sheet")), rgb(ink("petrol")), rgb(ink("ink"))];
    return Array.from({ length: 256 }, (_, i) => {
      const x = i / 255, [from, to, share] = x < 0.6 ? [a, b, x / 0.6] : [b, c, (x - 0.6) / 0.4];
      return from.map((v, k) => Math.round(v + (to[k] - v) * share));
    });
  }

  async function load() {
    const mine = ++asked;
    const columns = Math.max(Math.round(wide()), 50);
    let answer;
    try {
      answer = await fetch(`${told.grid}?from=${shown[0].toFixed(3)}&to=${shown[1].toFixed(3)}&columns=${columns}`);
    } catch { says.textContent = "No answer from the server; the picture is as it was."; return; }
    if (!answer.ok || mine !== asked) return;
    const body = await answer.arrayBuffer();
    const head = new DataView(body), rows = head.getUint32(12, true), bytes = new Uint8Array(body, 16);
    cells = { from: head.getFloat32(0, true), to: head.getFloat32(4, true), rows, columns: bytes.length / rows, bytes };
    paint();
  }

  function paint() {
    if (!cells?.columns) return;
    // The contrast is of what is drawn: between what nearly always is there and the loudest.
    const seen = Uint8Array.from(cells.bytes).sort(), low = seen[Math.floor(seen.length * 0.2)], top = Math.max(seen[seen.length - 1], low + 20);
    const colours = palette(), image = new ImageData(cells.columns, cells.rows);
    for (let column = 0; column < cells.columns; column++)
      for (let row = 0; row < cells.rows; row++) {
        const value = cells.bytes[column * cells.rows + row];
        const colour = colours[Math.max(0, Math.min(255, Math.round((value - low) / (top - low) * 255)))];
        image.data.set([...colour, 255], ((cells.rows - 1 - row) * cells.columns + column) * 4);
      }
    picture = new OffscreenCanvas(cells.columns, cells.rows);
    picture.getContext("2d").putImageData(image, 0, 0);
    draw();
  }

  function draw() {
    const context = canvas.getContext("2d");
    context.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0);
    context.clearRect(0, 0, canvas.width, canvas.height);
    context.save();
    context.beginPath();
    context.rect(LEFT, TOP, wide(), high());
    context.clip();
    if (picture) {
      context.imageSmoothingEnabled = cells.columns > wide() / 2;
      context.drawImage(picture, xOf(cells.from), TOP, xOf(cells.to) - xOf(cells.from), high());
    }
    context.fillStyle = ink("amber");
    for (const fault of told.faults) {
      context.globalAlpha = 0.35;
      context.fillRect(xOf(fault.from), TOP, Math.max(xOf(fault.to) - xOf(fault.from), 2), high());
      context.globalAlpha = 1;
    }
    context.strokeStyle = ink("petrol");
    context.setLineDash([2, 3]);
    for (const edge of told.used) line(context, xOf(edge), TOP, xOf(edge), TOP + high());
    context.setLineDash([]);
    if (drag) {
      context.globalAlpha = 0.2;
      context.fillStyle = ink("petrol");
      context.fillRect(drag[0], TOP, drag[1] - drag[0], high());
      context.globalAlpha = 1;
    }
    context.strokeStyle = ink("danger");
    context.lineWidth = 2;
    line(context, xOf(at), TOP, xOf(at), TOP + high());
    context.lineWidth = 1;
    context.restore();
    axes(context);
    canvas.dataset.drawn = picture ? "yes" : "";
  }

  function line(context, x0, y0, x1, y1) {
    context.beginPath();
    context.moveTo(x0, y0);
    context.lineTo(x1, y1);
    context.stroke();
  }

  function axes(context) {
    context.font = `12px ${getComputedStyle(document.body).fontFamily}`;
    context.fillStyle = ink("ink2");
    context.textAlign = "right";
    context.textBaseline = "middle";
    for (const [f, word] of [[50, "50"], [200, "200"], [1000, "1k"], [5000, "5k"], [15000, "15k Hz"]]) context.fillText(word, LEFT - 4, yOf(f));
    context.textAlign = "center";
    context.textBaseline = "top";
    const span = shown[1] - shown[0], step = [0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 60, 120, 300, 600, 1200].find((s) => span / s <= 8) ?? 1200;
    for (let t = Math.ceil(shown[0] / step) * step; t <= shown[1]; t += step) context.fillText(`${+t.toFixed(1)} s`, Math.min(xOf(t), LEFT + wide() - 14), TOP + high() + 5);
    // Names of tones stand at the right edge, with paper behind them.
    context.textAlign = "right";
    context.textBaseline = "middle";
    let last = Infinity;
    for (const tone of [...told.tones].sort((a, b) => a.f - b.f)) {
      const y = yOf(tone.f);
      if (last - y < 14) continue;
      last = y;
      const text = `${tone.name} ${Math.round(tone.f).toLocaleString("en")} Hz`, length = context.measureText(text).width;
      context.fillStyle = ink("sheet");
      context.globalAlpha = 0.85;
      context.fillRect(LEFT + wide() - length - 10, y - 8, length + 8, 16);
      context.globalAlpha = 1;
      context.fillStyle = ink("ink");
      context.fillText(text, LEFT + wide() - 6, y);
    }
  }

  function size() {
    const box = stage.getBoundingClientRect();
    canvas.width = Math.round(box.width * devicePixelRatio);
    canvas.height = Math.round(box.height * devicePixelRatio);
    draw();
    load();
  }

  function show(from, to) {
    const span = Math.min(Math.max(to - from, 0.2), told.seconds), start = Math.min(Math.max(from, 0), told.seconds - span);
    shown = [start, start + span];
    draw();
    load();
  }

  // Playing: the copy is of the stretch that is used.
  let audio = null, buffer = null, source = null, gain = null, began = 0, offset = 0;
  const ends = () => told.copyFrom + (buffer?.duration ?? 0);
  const volume = () => (Number(place.querySelector("[data-volume]").value) / 100) ** 2;

  async function play() {
    if (source) return stop();
    plays.disabled = true;
    try {
      audio ??= new AudioContext();
      await audio.resume();
      if (!buffer) {
        says.textContent = "Loading the sound.";
        const answer = await fetch(told.copy);
        if (!answer.ok) throw new Error(answer.statusText);
        buffer = await audio.decodeAudioData(await answer.arrayBuffer());
        says.textContent = "";
      }
    } catch { says.textContent = "The sound could not be loaded. Try again."; plays.disabled = false; return; }
    plays.disabled = false;
    if (at < told.copyFrom || at >= ends() - 0.05) at = told.copyFrom;
    source = new AudioBufferSourceNode(audio, { buffer, loop: loops.checked });
    gain = new GainNode(audio, { gain: 0 });
    gain.gain.linearRampToValueAtTime(volume(), audio.currentTime + 0.3);
    source.connect(gain).connect(audio.destination);
    offset = at - told.copyFrom;
    began = audio.currentTime;
    const mine = source;
    source.addEventListener("ended", () => { if (source === mine) stop(); });
    source.start(0, offset);
    word();
    requestAnimationFrame(follow);
  }

  function stop() {
    const old = source;
    source = null;
    old?.stop();
    word();
  }

  const word = () => { plays.firstChild.textContent = source ? "Stop " : "Play "; };

  function follow() {
    if (!source) return;
    const gone = offset + audio.currentTime - began;
    at = told.copyFrom + (source.loop ? gone % buffer.duration : Math.min(gone, buffer.duration));
    canvas.dataset.at = at.toFixed(2);
    if (at > shown[1] || at < shown[0]) show(at, at + (shown[1] - shown[0]));
    draw();
    requestAnimationFrame(follow);
  }

  function move(to) {
    at = Math.min(Math.max(to, told.copyFrom), told.used[1]);
    canvas.dataset.at = at.toFixed(2);
    if (source) { stop(); play(); }
    draw();
  }

  plays.addEventListener("click", play);
  loops.addEventListener("change", () => { if (source) source.loop = loops.checked; });
  place.querySelector("[data-volume]").addEventListener("input", () => gain?.gain.setTargetAtTime(volume(), audio.currentTime, 0.05));
  place.querySelector("[data-whole]").addEventListener("click", () => show(0, told.seconds));
  canvas.addEventListener("pointerdown", (event) => { canvas.setPointerCapture(event.pointerId); drag = [event.offsetX, event.offsetX]; });
  canvas.addEventListener("pointermove", (event) => { if (drag) { drag[1] = event.offsetX; draw(); } });
  canvas.addEventListener("pointerup", () => {
    if (!drag) return;
    const [a, b] = [...drag].sort((x, y) => x - y);
    drag = null;
    if (b - a > 8) show(tOf(a), tOf(b));
    else move(tOf(a));
  });
  canvas.addEventListener("dblclick", () => show(0, told.seconds));
  canvas.addEventListener("keydown", (event) => {
    const span = shown[1] - shown[0], middle = Math.min(Math.max(at, shown[0]), shown[1]);
    if (event.key === "ArrowLeft") move(at - span / 50);
    else if (event.key === "ArrowRight") move(at + span / 50);
    else if (event.key === "+") show(middle - span / 4, middle + span / 4);
    else if (event.key === "-") show(middle - span, middle + span);
    else return;
    event.preventDefault();
  });
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", paint);
  new ResizeObserver(size).observe(stage);
})();
