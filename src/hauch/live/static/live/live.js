// The live bench: figures and running charts from the stream, the guide asked anew when something changed.
"use strict";
(() => {
  const config = JSON.parse(document.getElementById("live-config").textContent);
  const byKey = Object.fromEntries(config.channels.map((c, i) => [c.key, { ...c, column: i, points: [], last: null, gap: 0 }]));
  const products = Object.values(byKey).filter((channel) => channel.product);
  const list = document.getElementById("channels");
  let chosen = config.main, status = {}, newest = -1, heard = 0, source = null, drawn = 0;
  let behind = 0, ended = false, beaten = -Infinity, unseen = false, unsent = false;
  const calm = window.matchMedia("(prefers-reduced-motion: reduce)");

  const shown = (channel, value) => value * channel.factor + channel.offset;
  const decimals = (channel) => {
    if (channel.step > 0) return Math.max(0, Math.min(4, Math.ceil(-Math.log10(channel.step) - 1e-9)));
    const size = Math.abs(channel.last ?? 1);
    return size >= 1000 ? 0 : size >= 100 ? 1 : size >= 10 ? 2 : 3;
  };
  const text = (channel, value) => {
    if (value === null || value === undefined) return "–";
    return shown(channel, value).toLocaleString("en-GB", { minimumFractionDigits: decimals(channel), maximumFractionDigits: decimals(channel) }).replace("-", "−");
  };

  for (const channel of Object.values(byKey)) {
    const item = document.createElement("li");
    const button = document.createElement("button");
    button.type = "button";
    button.className = "channel";
    button.dataset.channel = channel.key;
    button.innerHTML = '<span class="channel-label"></span><canvas class="spark" aria-hidden="true"></canvas><span class="channel-value"></span><span class="unit"></span>';
    button.querySelector(".channel-label").textContent = channel.label;
    button.querySelector(".unit").textContent = channel.unit;
    button.addEventListener("click", () => choose(channel.key));
    channel.value = button.querySelector(".channel-value");
    channel.spark = button.querySelector(".spark");
    channel.button = button;
    item.append(button);
    list.append(item);
  }

  function choose(key) {
    chosen = key;
    for (const channel of Object.values(byKey)) channel.button.setAttribute("aria-pressed", String(channel.key === key));
    document.getElementById("now-label").textContent = byKey[key].label;
    document.getElementById("now-unit").textContent = byKey[key].unit;
    paint(true);
  }

  // Averages of a fifth of a second on the screen; what is stored is every sample.
  const smooth = {};
  function add(key, seconds, value) {
    const channel = byKey[key];
    if (value !== null) {
      const held = (smooth[key] ??= []);
      held.push(value);
      if (held.length > config.rate / 5) held.shift();
      channel.last = held.reduce((a, b) => a + b, 0) / held.length;
    } else smooth[key] = [];
    const points = channel.points, last = points.at(-1);
    // Four points a second are kept, the lowest and highest within each, so that no spike vanishes.
    if (last && seconds - last.from < 0.25 && (last.low === null) === (value === null)) {
      if (value !== null) { last.low = Math.min(last.low, value); last.high = Math.max(last.high, value); last.sum += value; last.count += 1; }
    } else points.push({ from: seconds, low: value, high: value, sum: value, count: 1 });
    if (points.length > 6000) points.splice(0, points.length - 6000);
  }

  function rows(event) {
    const data = JSON.parse(event.data);
    heard = performance.now();
    data.rows.forEach((row, i) => {
      const tick = data.first + i;
      row.forEach((value, column) => { if (tick > newest || value !== null) add(config.channels[column].key, tick / config.rate, value); });
      for (const channel of products) {
        const [a, b] = channel.product.map((key) => row[byKey[key].column]);
        if (tick > newest) add(channel.key, tick / config.rate, a === null || b === null ? null : a * b);
      }
    });
    newest = Math.max(newest, data.first + data.rows.length - 1);
    if (data.at) window.hauchLag = Date.now() / 1000 - data.at;
    paint(false);
    if (data.at) (window.hauchLags ??= []).push(Date.now() / 1000 - data.at);
    say();
  }

  function past(event) {
    const data = JSON.parse(event.data);
    heard = performance.now();
    for (const [key, trace] of Object.entries(data.traces)) {
      if (!byKey[key]) continue;
      byKey[key].points = trace.map(([from, low, high, mean]) => ({ from, low, high, sum: mean, count: 1 }));
      byKey[key].last = trace.at(-1)?.[3] ?? null;
    }
    newest = data.tick;
    if (data.status && Object.keys(data.status).length) told(data.status);
    paint(true);
    say();
  }

  // The guide is asked anew when what it shows has changed, and again each second until it came. What a person does goes first:
  // it aborts such a question (hx-sync in the templates), so that no older answer comes in over a newer one.
  const guide = document.getElementById("guide");
  let signature = "", latest = "", asked = "", toldAt = 0;
  guide.addEventListener("htmx:beforeSend", (event) => { if (event.detail.elt === guide) asked = latest; });
  guide.addEventListener("htmx:afterRequest", (event) => { if (event.detail.elt === guide && event.detail.successful) signature = asked; });
  function ask() {
    const old = latest !== signature || behind > Number(guide.querySelector("[data-changes]")?.dataset.changes ?? 0);
    if (old && !ended && !document.querySelector("dialog[open]") && !guide.contains(document.activeElement?.closest?.("input, textarea, select"))) htmx.trigger(guide, "refresh");
  }
  // What somebody did in another browser: the guide is asked anew; after the end there is nothing more to do here.
  function changed(event) {
    const data = JSON.parse(event.data);
    heard = performance.now();
    behind = data.changes;
    if (data.ended) closed();
    else ask();
  }
  function closed() {
    if (ended) return;
    ended = true;
    source.close();
    document.querySelector(".live-throttle").hidden = true;
    if (!guide.querySelector("[data-ended]")) htmx.trigger(guide, "refresh");
    say();
  }
  function told(data) {
    if (performance.now() - toldAt > 4000) signature = "";  // what was said of a silence is over
    status = data;
    heard = toldAt = performance.now();
    latest = JSON.stringify([data.throttle > 0, data.calm, data.stands, data.forecast?.settled, data.task?.done, data.task?.text, data.silent, data.stopped]);
    ask();
    if (unsent) closeThrottle();
    const percent = document.getElementById("percent");
    if (percent && document.activeElement !== percent) percent.value = String(Math.round(data.throttle * 10) / 10);
    const events = document.getElementById("events");
    if (events.dataset.told !== JSON.stringify(data.events)) {
      events.dataset.told = JSON.stringify(data.events);
      events.replaceChildren(...[...data.events].reverse().map((said) => {
        const item = document.createElement("li");
        item.textContent = said;
        return item;
      }));
    }
    say();
  }

  // Whoever has this page open is there, and keeps the throttle open. It hangs on what comes in, too: timers of a page that is not
  // in front are slow.
  async function beat() {
    if (ended || performance.now() - beaten < config.beat * 1000) return;
    beaten = performance.now();
    try {
      unseen = (await fetch(config.here, { method: "POST", headers: JSON.parse(document.body.getAttribute("hx-headers")), redirect: "manual" })).status !== 204;
    } catch {
      // the line is away, which is said below
    }
  }

  // What is dangerous while this page hears nothing, or nobody hears it.
  function danger(silent) {
    const runs = status.throttle > 0 ? `The part runs on at ${Math.round(status.throttle)} %, as far as is known. ` : "", stop = "To stop it now, switch the supply off by hand.";
    if (ended || status.stopped) return "";
    if (unsent) return `Closing the throttle did not get through; it is sent as soon as the server is back. ${runs}${stop}`;
    if (!runs) return "";
    if (silent && source?.readyState === EventSource.OPEN) return `The recorder does not answer. ${runs}Nothing here can close the throttle. ${stop}`;
    if (silent) return `No connection to the server. ${runs}Stay with it: if no page is back within ${config.presence} s, the recorder closes the throttle. ${stop}`;
    if (unseen) return `You are not signed in any more, so this page does not keep the throttle open: it closes within ${config.presence} s. Sign in again in another tab.`;
    return "";
  }

  const minutes = (seconds) => `${Math.floor(seconds / 60)}:${String(Math.floor(seconds % 60)).padStart(2, "0")}`;
  function say() {
    const forecast = document.getElementById("forecast"), still = document.getElementById("still"), f = status.forecast;
    document.getElementById("clock").textContent = newest >= 0 ? minutes(newest / config.rate) : "0:00";
    const load = byKey.load_temperature;
    forecast.hidden = !(f && load);
    if (f && load) {
      const half = f.half * load.factor, digits = half >= 1 ? 0 : half >= 0.1 ? 1 : 2;
      forecast.innerHTML = "";
      forecast.append(f.settled ? "settled at " : "will end near ", Object.assign(document.createElement("b"), { textContent: `${shown(load, f.end).toFixed(digits)} ± ${half.toFixed(digits)} ${load.unit}` }));
    }
    const silent = performance.now() - heard > 3000, lost = document.getElementById("lost"), sentence = danger(silent);
    beat();
    if (lost.textContent !== sentence) lost.textContent = sentence;
    lost.hidden = !sentence;
    if (ended) {
      still.className = "quiet";
      still.textContent = "This recording has ended.";
      document.querySelector(".huge").classList.add("old");
      return;
    }
    still.className = silent || (f && !f.settled) ? "amber" : "quiet";
    if (sentence && silent) still.textContent = "The figure is old.";
    else if (silent) still.textContent = heard ? "No word from the server. The recording goes on; the picture follows." : "Waiting for the meters.";
    else if (status.stopped) { still.className = "amber"; still.textContent = "This bench was stopped."; }
    else if (status.task && !status.task.done) still.textContent = status.task.text || "The throttle is turned by rule.";
    else if (f) still.textContent = f.settled ? "Settled: take the readings." : f.to_go ? `not settled: about ${Math.max(1, Math.round(f.to_go / 60))} min to go` : "not settled: no end in sight yet";
    else if (status.throttle === undefined) still.textContent = "Waiting for the recorder.";
    else if (!(status.throttle > 0)) still.textContent = "The throttle is closed.";
    else if (status.stands) still.textContent = "It stands still.";
    else still.textContent = status.calm ? "Steady." : "Still moving.";
    const mute = (byKey[chosen].product ?? [chosen]).map((key) => byKey[key].label).filter((label) => status.silent?.includes(label));
    document.querySelector(".huge").classList.toggle("old", silent || mute.length > 0);
    if (!silent && !status.stopped && mute.length) { still.className = "amber"; still.textContent = `No answer from ${mute.join(", ").toLowerCase()}: the figure is old.`; }
  }

  const ink = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
  function fit(canvas) {
    const scale = window.devicePixelRatio || 1, width = canvas.clientWidth, height = canvas.clientHeight;
    if (canvas.width !== Math.round(width * scale) || canvas.height !== Math.round(height * scale)) {
      canvas.width = Math.round(width * scale);
      canvas.height = Math.round(height * scale);
    }
    const pen = canvas.getContext("2d");
    pen.setTransform(scale, 0, 0, scale, 0, 0);
    pen.clearRect(0, 0, width, height);
    return [pen, width, height];
  }

  function bandOf(channel) {
    const over = channel.over ? byKey[channel.over].last : 0;
    const band = channel.band && over !== null ? [channel.band[0] + over, channel.band[1] ?? 0] : null;
    return band ? [shown(channel, band[0] - band[1]), shown(channel, band[0]), shown(channel, band[0] + band[1])] : null;
  }

  function range(channel, from, withBand) {
    let low = Infinity, high = -Infinity;
    for (const p of channel.points) if (p.from >= from && p.low !== null) { low = Math.min(low, shown(channel, p.low)); high = Math.max(high, shown(channel, p.high)); }
    if (low > high) return null;
    const band = withBand && bandOf(channel);
    // The reference is kept in sight while it is near enough to be compared with; of a band much
    // wider than what is read (two runs say little) only its middle.
    if (band) {
      const room = high - low + Math.abs(high) * 0.05;
      const [below, above] = band[2] - band[0] > 4 * room ? [band[1], band[1]] : [band[0], band[2]];
      if (above > low - 3 * room && below < high + 3 * room) { low = Math.min(low, below); high = Math.max(high, above); }
    }
    const f = status.forecast;
    if (withBand && f && channel.key === "load_temperature") { low = Math.min(low, shown(channel, f.end - f.half)); high = Math.max(high, shown(channel, f.end + f.half)); }
    const pad = Math.max((high - low) * 0.08, Math.abs(high) * 0.002, channel.step || 1e-6);
    return [low - pad, high + pad];
  }

  function line(pen, channel, from, x, y) {
    const points = channel.points.filter((p) => p.from >= from);
    // From the lowest to the highest of each quarter second as a fine stroke, so that no spike vanishes; over it the mean.
    pen.globalAlpha = 0.22;
    pen.beginPath();
    for (const p of points) if (p.low !== null && p.high !== p.low) { pen.moveTo(x(p.from), y(shown(channel, p.low))); pen.lineTo(x(p.from), y(shown(channel, p.high))); }
    pen.stroke();
    pen.globalAlpha = 1;
    pen.beginPath();
    let open = false, before = 0;
    for (const p of points) {
      if (p.low === null) { open = false; continue; }
      // Where nothing was recorded the line breaks.
      if (p.from - before > Math.max(1, (points.at(-1).from - points[0].from) / 150)) open = false;
      before = p.from;
      const mean = y(shown(channel, p.sum / p.count));
      if (open) pen.lineTo(x(p.from), mean);
      else pen.moveTo(x(p.from), mean);
      open = true;
    }
    pen.stroke();
  }

  function chart() {
    const channel = byKey[chosen], [pen, width, height] = fit(document.getElementById("trace"));
    const end = Math.max(newest / config.rate, 10), soaking = status.forecast && channel.key === "load_temperature";
    // While a part runs steadily the chart shows that; after a turn of the throttle, what came of it.
    const turned = status.turned ?? 0, since = status.calm && end - turned > 12 ? turned + 4 : 0;
    const from = soaking ? 0 : Math.max(since, end - 90, 0);
    const limits = range(channel, from, true);
    if (!limits) return;
    const left = 52, right = 8, top = 14, bottom = 22;
    const future = soaking && !status.forecast.settled && status.forecast.to_go ? Math.min(status.forecast.to_go, end) : 0;
    const x = (s) => left + ((s - from) / (end + future - from)) * (width - left - right);
    const y = (v) => top + (1 - (v - limits[0]) / (limits[1] - limits[0])) * (height - top - bottom);
    pen.font = "12px HyperMono, monospace";
    pen.lineWidth = 1;
    const rough = (limits[1] - limits[0]) / 4, power = 10 ** Math.floor(Math.log10(rough)), step = [1, 2, 5, 10].map((m) => m * power).find((s) => s >= rough);
    const digits = Math.max(0, -Math.floor(Math.log10(step) + 1e-9));
    for (let v = Math.ceil(limits[0] / step) * step; v <= limits[1]; v += step) {
      pen.strokeStyle = ink("--hair");
      pen.beginPath(); pen.moveTo(left, y(v)); pen.lineTo(width - right, y(v)); pen.stroke();
      pen.fillStyle = ink("--ink2"); pen.textAlign = "right"; pen.textBaseline = "middle";
      pen.fillText(v.toFixed(digits), left - 6, y(v));
    }
    pen.textBaseline = "alphabetic";
    const span = end + future - from, every = [5, 10, 15, 30, 60, 120, 300, 600, 1200, 3600].find((s) => span / s <= Math.max(width / 90, 2)) ?? 7200;
    for (let s = Math.ceil(from / every) * every; s <= end + future; s += every) { pen.textAlign = "center"; pen.fillText(minutes(s), Math.min(Math.max(x(s), left), width - 18), height - 5); }
    const band = bandOf(channel);
    if (band) {
      pen.fillStyle = ink("--ref"); pen.globalAlpha = 0.3;
      pen.fillRect(left, y(band[2]), width - left - right, Math.max(y(band[0]) - y(band[2]), 1)); pen.globalAlpha = 1;
      pen.setLineDash([5, 4]); pen.strokeStyle = ink("--ink"); pen.beginPath(); pen.moveTo(left, y(band[1])); pen.lineTo(width - right, y(band[1])); pen.stroke(); pen.setLineDash([]);
      pen.textAlign = "right"; pen.fillStyle = ink("--ink2");
      const above = y(band[2]) - 4;
      if (above > top - 4 && above < height - bottom) pen.fillText("reference", width - right, above);
    }
    pen.strokeStyle = ink("--petrol"); pen.lineWidth = 1.6; pen.lineJoin = "round";
    line(pen, channel, from, x, y);
    if (future) {
      const f = status.forecast, last = channel.last ?? f.end;
      const curve = (ahead, off) => shown(channel, f.end + off * (ahead / future) + (last - f.end) * Math.exp(-ahead / Math.max(f.tau, 1)));
      pen.fillStyle = ink("--petrol"); pen.globalAlpha = 0.18; pen.beginPath();
      for (let i = 0; i <= 30; i++) pen.lineTo(x(end + (future * i) / 30), y(curve((future * i) / 30, f.half)));
      for (let i = 30; i >= 0; i--) pen.lineTo(x(end + (future * i) / 30), y(curve((future * i) / 30, -f.half)));
      pen.fill(); pen.globalAlpha = 1; pen.setLineDash([2, 4]); pen.beginPath();
      for (let i = 0; i <= 30; i++) pen.lineTo(x(end + (future * i) / 30), y(curve((future * i) / 30, 0)));
      pen.stroke(); pen.setLineDash([]);
    }
  }

  function sparkline(channel) {
    const [pen, width, height] = fit(channel.spark), end = newest / config.rate, from = Math.max(0, end - 60), limits = range(channel, from, false);
    if (!limits || width < 10) return;
    pen.strokeStyle = ink("--petrol");
    pen.lineWidth = 1.2;
    line(pen, channel, from, (s) => ((s - from) / Math.max(end - from, 1)) * width, (v) => 2 + (1 - (v - limits[0]) / (limits[1] - limits[0])) * (height - 4));
  }

  let sparks = 0;
  function paint(all) {
    const now = performance.now();
    if (!all && now - drawn < (calm.matches ? 900 : 90)) return;
    drawn = now;
    document.getElementById("now-value").textContent = text(byKey[chosen], byKey[chosen].last);
    for (const channel of Object.values(byKey)) channel.value.textContent = text(channel, channel.last);
    chart();
    if (all || now - sparks > 450) {
      sparks = now;
      Object.values(byKey).forEach(sparkline);
    }
  }

  function listen() {
    source?.close();
    source = new EventSource(config.stream + (newest >= 0 ? `?last=${newest}` : ""));
    source.addEventListener("history", past);
    source.addEventListener("rows", rows);
    source.addEventListener("status", (event) => told(JSON.parse(event.data)));
    source.addEventListener("changed", changed);
    // A stream that was refused (the server is away) is not tried again by the browser itself.
    source.onerror = () => { if (source.readyState === EventSource.CLOSED) setTimeout(listen, 1000); };
  }

  // Closing the throttle is sent until it got through.
  const closer = document.querySelector("[data-key=x]");
  function closeThrottle() {
    unsent = false;
    closer?.click();
  }
  for (const kind of ["htmx:sendError", "htmx:timeout", "htmx:responseError"])
    document.addEventListener(kind, (event) => {
      if (event.detail.elt === closer && !(event.detail.xhr.status >= 400 && event.detail.xhr.status < 500)) unsent = true;
      say();
    });
  document.addEventListener("click", (event) => {
    const turn = event.target.closest("[data-turn]");
    if (!turn) return;
    const percent = document.getElementById("percent");
    percent.value = String(Math.min(100, Math.max(0, (Number(percent.value) || 0) + Number(turn.dataset.turn))));
    percent.form.requestSubmit(percent.form.querySelector("[value=set]"));
  });
  // A dialog whose form was taken closes; one that was refused stays, with the sentence in the guide.
  document.addEventListener("htmx:afterRequest", (event) => {
    const form = event.detail.elt;
    if (form?.matches?.("form[data-once]") && event.detail.successful) {
      form.reset();
      form.closest("dialog")?.close();
    }
  });
  // What is typed into the guide stays when it is asked anew, until the run is accepted.
  const typed = {};
  document.addEventListener("input", (event) => {
    if (event.target.closest("#accept-form") && event.target.name) typed[event.target.name] = event.target.value;
  });
  document.addEventListener("htmx:afterSettle", (event) => {
    if (event.target.id !== "guide") return;
    for (const [name, value] of Object.entries(typed)) {
      const field = document.querySelector(`#accept-form [name="${CSS.escape(name)}"]`);
      if (field && field.value !== value) field.value = value;
    }
  });
  window.addEventListener("resize", () => paint(true));
  window.matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => paint(true));
  setInterval(say, 1000);
  choose(chosen);
  listen();
})();
