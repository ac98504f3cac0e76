// Records from the microphone of this device: level and clipping while it runs, then the recording goes to its session as a WAV file.
"use strict";
(() => {
  const place = document.querySelector("[data-microphone]");
  if (!place) return;
  const find = (name) => place.querySelector(`[data-${name}]`);
  const says = find("says"), records = find("records"), bar = find("level"), number = find("number"), clock = find("clock"), clips = find("clips"), saves = find("saves"), sends = find("sends");
  const most = Number(place.dataset.most), MOST_SECONDS = 3600;
  let audio = null, stream = null, node = null, blocks = [], count = 0, running = false, cut = 0, peak = 0, square = 0, since = 0, made = null;

  const tell = (text) => { says.textContent = text; };

  async function open() {
    if (!navigator.mediaDevices?.getUserMedia) {
      tell("This browser gives no microphone here. Open the page over https, or on the machine itself.");
      return false;
    }
    try {
      stream = await navigator.mediaDevices.getUserMedia({ audio: { autoGainControl: false, noiseSuppression: false, echoCancellation: false, channelCount: 1 } });
    } catch (problem) {
      tell(problem.name === "NotAllowedError" ? "The microphone was refused. Allow it in the browser's address line, and try again." : "No microphone was found. Connect one, and try again.");
      return false;
    }
    const kept = stream.getAudioTracks()[0].getSettings();
    const on = [["autoGainControl", "automatic gain"], ["noiseSuppression", "noise reduction"], ["echoCancellation", "echo cancelling"]].filter(([key]) => kept[key]).map(([, word]) => word);
    find("warns").textContent = on.length ? `This device keeps its ${on.join(" and ")} on: levels are not true. Use a recorder or a meter where levels matter.` : "";
    audio = new AudioContext();
    await audio.audioWorklet.addModule(place.dataset.taker);
    node = new AudioWorkletNode(audio, "hauch-taker", { numberOfOutputs: 0 });
    node.port.addEventListener("message", take);
    node.port.start();
    audio.createMediaStreamSource(stream).connect(node);
    return true;
  }

  function take({ data }) {
    for (const value of data) {
      const size = Math.abs(value);
      if (size > peak) peak = size;
      if (size >= 0.999) cut += running ? 1 : 0;
      square += value * value;
    }
    since += data.length;
    if (running) {
      blocks.push(data);
      count += data.length;
      if (count / audio.sampleRate >= MOST_SECONDS) stop();
    }
    if (since < audio.sampleRate / 8) return;
    const rms = 10 * Math.log10(square / since + 1e-12) + 3.01, top = 20 * Math.log10(peak + 1e-6);
    bar.value = Math.max(rms + 90, 0);
    number.textContent = `${Math.max(-rms, 0).toFixed(0)} dB below full scale, peaks ${Math.max(-top, 0).toFixed(0)} dB below`;
    clock.textContent = running ? `${(count / audio.sampleRate).toFixed(1)} s` : "";
    clips.hidden = !cut;
    square = since = 0;
    peak = 0;
  }

  async function toggle() {
    if (running) return stop();
    records.disabled = true;
    if (!audio && !(await open())) { records.disabled = false; return; }
    await audio.resume();
    records.disabled = false;
    blocks = [];
    count = cut = 0;
    made = null;
    sends.hidden = saves.hidden = true;
    running = true;
    records.textContent = "Stop";
    tell("Recording. Keep still; ten seconds of steady running are enough.");
  }

  function stop() {
    running = false;
    records.textContent = "Record again";
    if (count < audio.sampleRate) { tell("That was less than a second. Record at least one, better ten."); return; }
    made = new Blob([wav()], { type: "audio/wav" });
    saves.href = URL.createObjectURL(made);
    saves.download = name();
    sends.hidden = saves.hidden = false;
    sends.focus();
    tell(cut ? `${(count / audio.sampleRate).toFixed(1)} s are recorded, and ${cut} samples were clipped: lower the gain and record again.` : `${(count / audio.sampleRate).toFixed(1)} s are recorded.`);
  }

  // 24 bits, so that a quiet part loses nothing.
  function wav() {
    const out = new DataView(new ArrayBuffer(44 + count * 3)), text = (at, word) => [...word].forEach((letter, i) => out.setUint8(at + i, letter.charCodeAt(0)));
    text(0, "RIFF");
    out.setUint32(4, 36 + count * 3, true);
    text(8, "WAVEfmt ");
    out.setUint32(16, 16, true);
    out.setUint16(20, 1, true);
    out.setUint16(22, 1, true);
    out.setUint32(24, audio.sampleRate, true);
    out.setUint32(28, audio.sampleRate * 3, true);
    out.setUint16(32, 3, true);
    out.setUint16(34, 24, true);
    text(36, "data");
    out.setUint32(40, count * 3, true);
    let at = 44;
    for (const block of blocks)
      for (const value of block) {
        const whole = Math.round(Math.max(-1, Math.min(1, value)) * 8388607);
        out.setUint8(at, whole & 255);
        out.setInt16(at + 1, whole >> 8, true);
        at += 3;
      }
    return out.buffer;
  }

  const name = () => `${(find("what").value.trim() || "recording").replace(/[^\p{L}\p{N} .-]/gu, " ")} ${new Date().toISOString().slice(0, 19).replace("T", " ").replaceAll(":", ".")}.wav`;

  async function send() {
    if (!made) return;
    if (made.size > most) { tell("It is too long to be sent. Save it on this device, and cut it."); return; }
    sends.disabled = true;
    tell("Sending.");
    const form = new FormData();
    form.append("csrfmiddlewaretoken", place.querySelector("[name=csrfmiddlewaretoken]").value);
    form.append("sound", made, name());
    form.append("changed", Date.now());
    try {
      const answer = await fetch(place.dataset.microphone, { method: "POST", body: form, redirect: "follow" });
      if (answer.ok) { location.assign(place.dataset.session); return; }
      tell("It was not taken. Save it on this device, and hand it in as a file.");
    } catch { tell("No answer from the server. It is still here: try again, or save it on this device."); }
    sends.disabled = false;
  }

  records.addEventListener("click", toggle);
  sends.addEventListener("click", send);
  window.addEventListener("beforeunload", (event) => { if (running || (made && !sends.disabled)) event.preventDefault(); });
})();
