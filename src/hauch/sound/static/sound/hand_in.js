// A file's own time says when it was recorded: it goes along, one figure for each file. Several files go
// one by one, so that a large one, or a bad one, holds up none of the others.
"use strict";
(() => {
  const problemsOf = (text) => [...new DOMParser().parseFromString(text, "text/html").querySelectorAll(".problems li")].map((one) => one.textContent.trim());

  document.addEventListener("submit", (event) => {
    const form = event.target.closest("form[data-hands-in]");
    if (!form) return;
    const files = [...form.querySelector("input[type=file]").files];
    if (files.length > 1) {
      event.preventDefault();
      oneByOne(form, files);
      return;
    }
    for (const old of form.querySelectorAll("[name=changed]")) old.remove();
    for (const file of files) {
      const field = document.createElement("input");
      field.type = "hidden";
      field.name = "changed";
      field.value = file.lastModified;
      form.append(field);
    }
  }, true);

  async function oneByOne(form, files) {
    const says = form.querySelector("[data-says]"), list = form.querySelector("[data-problems]"), button = form.querySelector("button");
    const token = form.querySelector("[name=csrfmiddlewaretoken]").value, problems = [];
    let taken = 0;
    button.disabled = true;
    list.replaceChildren();
    document.querySelector("main .problems")?.remove();
    for (const [i, file] of files.entries()) {
      says.textContent = `${i + 1} of ${files.length}: ${file.name}`;
      const data = new FormData();
      data.append("csrfmiddlewaretoken", token);
      data.append("sound", file);
      data.append("changed", file.lastModified);
      data.append("one_of", files.length);
      try {
        const answer = await fetch(form.action, { method: "POST", body: data });
        if (answer.status === 204) taken += 1;
        else {
          const said = answer.status === 422 ? problemsOf(await answer.text()) : [];
          problems.push(...(said.length ? said : [`${file.name}: it was not taken. Hand it in again.`]));
        }
      } catch {
        problems.push(`${file.name}: no answer from the server. Hand it in again.`);
      }
    }
    button.disabled = false;
    if (!problems.length) { location.assign(form.dataset.handsIn); return; }
    says.textContent = `${taken} of ${files.length} ${taken === 1 ? "is" : "are"} in.`;
    list.replaceChildren(...problems.map((text) => Object.assign(document.createElement("li"), { textContent: text })));
    if (taken) {
      const last = document.createElement("li");
      last.append(Object.assign(document.createElement("a"), { href: form.dataset.handsIn, textContent: "Look at those that are in, and confirm them" }));
      list.append(last);
    }
  }
})();
