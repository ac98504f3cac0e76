// Refreshes src/hauch/ui/static/vendor from the packages pinned in package-lock.json: `npm ci && npm run build`.
import { execFileSync } from "node:child_process";
import { copyFileSync, existsSync, mkdirSync, readFileSync, readdirSync, rmSync, writeFileSync } from "node:fs";
import { buildSync } from "esbuild";

const out = "src/hauch/ui/static/vendor";
rmSync(out, { recursive: true, force: true });
for (const dir of ["bootstrap", "charts", "fonts", "htmx", "licences", "three"]) mkdirSync(`${out}/${dir}`, { recursive: true });

execFileSync("node_modules/.bin/sass", ["--quiet-deps", "--no-source-map", "--style=compressed", "--load-path=node_modules",
  "assets/bootstrap.scss", `${out}/bootstrap/bootstrap.css`], { stdio: "inherit" });
buildSync({ entryPoints: ["assets/charts.js"], bundle: true, minify: true, format: "iife", target: "es2022",
  outfile: `${out}/charts/charts.js`, legalComments: "none" });
buildSync({ entryPoints: ["assets/three.js"], bundle: true, minify: true, format: "iife", globalName: "three", target: "es2022",
  outfile: `${out}/three/three.js`, legalComments: "none" });
copyFileSync("node_modules/htmx.org/dist/htmx.min.js", `${out}/htmx/htmx.min.js`);
for (const face of ["next", "mono"])
  for (const range of ["latin", "latin-ext"])
    copyFileSync(`node_modules/@fontsource-variable/atkinson-hyperlegible-${face}/files/atkinson-hyperlegible-${face}-${range}-wght-normal.woff2`,
      `${out}/fonts/atkinson-hyperlegible-${face}-${range}.woff2`);

// Licences: what is copied, and what esbuild bundled into charts.js and three.js.
const shipped = Object.keys(JSON.parse(readFileSync("package-lock.json", "utf8")).packages)
  .filter((path) => path.startsWith("node_modules/") && existsSync(`${path}/package.json`))
  .map((path) => ({ path, info: JSON.parse(readFileSync(`${path}/package.json`, "utf8")) }))
  .filter(({ info }) => /^(vega|d3-|htmx|bootstrap|@fontsource|topojson|robust|delaunator|internmap|three$|json-stringify|semver|fast-json|tslib)/.test(info.name));
const rows = shipped.map(({ path, info }) => {
  const licence = readdirSync(path).find((name) => /^licen[sc]e/i.test(name));
  if (licence) copyFileSync(`${path}/${licence}`, `${out}/licences/${info.name.replace("/", "_")}.txt`);
  return `| ${info.name} | ${info.version} | ${info.license} |`;
});
writeFileSync(`${out}/README.md`, `# Vendored files\n\nMade by \`npm ci && npm run build\` (assets/build.mjs); do not edit.\n\n` +
  `| package | version | licence |\n|---|---|---|\n${rows.sort().join("\n")}\n`);
