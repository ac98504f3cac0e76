// Draws every <figure data-chart="ID"> from the Vega-Lite spec in <script type="application/json" id="ID">.
// The expression interpreter keeps the page free of eval, so the content policy can stay strict.
import vegaEmbed from "vega-embed";
import { expressionInterpreter } from "vega-interpreter";

const options = {
  renderer: "svg", actions: false, ast: true, expr: expressionInterpreter, defaultStyle: false,
  tooltip: { disableDefaultStyle: true },
};

// Specs name inks, not colours: "ink(petrol)" becomes the page's own --petrol, so that light, dark and print follow.
function resolve(node, style) {
  if (typeof node === "string") {
    const named = /^ink\(([\w-]+)\)$/.exec(node);
    return named ? style.getPropertyValue(`--${named[1]}`).trim() : node;
  }
  if (Array.isArray(node)) return node.map((item) => resolve(item, style));
  if (node && typeof node === "object")
    return Object.fromEntries(Object.entries(node).map(([key, item]) => [key, key === "values" ? item : resolve(item, style)]));
  return node;
}

async function draw(figure) {
  const source = document.getElementById(figure.dataset.chart);
  if (!source) return;
  const target = figure.querySelector(".chart") ?? figure;
  const spec = resolve(JSON.parse(source.textContent), getComputedStyle(document.documentElement));
  if (figure.view) figure.view.finalize();
  const { view } = await vegaEmbed(target, spec, options);
  figure.view = view;
  figure.dataset.drawn = "yes";
}

function drawAll(root) {
  for (const figure of root.querySelectorAll("[data-chart]")) draw(figure);
}

document.addEventListener("DOMContentLoaded", () => drawAll(document));
document.addEventListener("htmx:afterSettle", (event) => drawAll(event.target));
matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => drawAll(document));
