// Files go up piece by piece: a lost connection waits and goes on where it stopped; a reload finds the rest by name and size.
// What came in appears in the list of files, which alone is asked for anew: messages and what is typed stay.
"use strict";
(() => {
  const form = document.querySelector("form[data-upload]");
  if (!form) return;
  const list = form.querySelector(".uploads");
  const token = form.querySelector("[name=csrfmiddlewaretoken]").value;
  const piece = Number(form.dataset.piece), most = Number(form.dataset.most);
  const wait = (ms) => new Promise((resolve) => setTimeout(resolve, ms));
  let open = 0;

  async function ask(url, options, line) {
    for (let pause = 500; ; pause = Math.min(pause * 2, 8000)) {
      try {
        const answer = await fetch(url, { ...options, headers: { "X-CSRFToken": token, ...options.headers } });
        if (answer.status < 500) return answer;
      } catch { /* no network: wait */ }
      line.word.textContent = "no connection; goes on by itself";
      await wait(pause);
    }
  }

  function lineOf(file) {
    const item = document.createElement("li");
    const name = document.createElement("span");
    name.className = "grow wrap-any";
    name.textContent = file.name;
    const bar = document.createElement("progress");
    bar.max = file.size || 1;
    bar.value = 0;
    bar.setAttribute("aria-label", `${file.name} on its way`);
    const word = document.createElement("span");
    word.className = "small quiet";
    item.append(name, bar, word);
    list.append(item);
    return { item, bar, word };
  }

  function refuse(line, text) {
    line.bar.remove();
    line.word.className = "small danger";
    line.word.setAttribute("role", "alert");
    line.word.textContent = text;
  }

  async function send(file) {
    const line = lineOf(file);
    if (file.size > most) return refuse(line, `It has ${Math.round(file.size / 1e6)} MB; at most ${Math.floor(most / 1e6)} MB are taken. Export it with coarser facets.`);
    const body = new FormData();
    body.set("name", file.name);
    body.set("size", String(file.size));
    const begun = await ask(form.dataset.upload, { method: "POST", body }, line);
    let told = await begun.json().catch(() => ({ problem: "The server did not take it. Load the page again." }));
    if (!begun.ok) return refuse(line, told.problem);
    const url = `${form.dataset.upload}${told.key}/`;
    while (!told.whole) {
      line.bar.value = told.received;
      line.word.textContent = `${Math.round((100 * told.received) / file.size)} %`;
      const answer = await ask(url, { method: "POST", body: file.slice(told.received, told.received + piece), headers: { "Upload-Offset": String(told.received), "Content-Type": "application/octet-stream" } }, line);
      told = await answer.json().catch(() => ({ problem: "The server did not take it. Load the page again." }));
      if (!answer.ok) return refuse(line, told.problem);
    }
    line.bar.value = file.size;
    line.word.textContent = "handed in";
    line.item.dataset.done = "";
    return true;
  }

  const field = form.querySelector("input[type=file]");
  field.addEventListener("change", async () => {
    const files = [...field.files];
    field.value = "";
    open += 1;
    for (const file of files)
      if (await send(file)) htmx.trigger("#files-in", "files-changed");
    open -= 1;
  });
  document.body.addEventListener("htmx:afterSwap", (event) => {
    if (event.detail.target.id === "files-in") for (const item of list.querySelectorAll("[data-done]")) item.remove();
  });
  addEventListener("beforeunload", (event) => {
    if (open) event.preventDefault();
  });
})();
