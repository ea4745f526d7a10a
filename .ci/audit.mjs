// Audits pages with axe-core, in light and dark, wide and on a phone: node audit.mjs PAGE…
import { readFileSync } from "node:fs";
import { pathToFileURL } from "node:url";
import puppeteer from "puppeteer-core";

const axe = readFileSync("node_modules/axe-core/axe.min.js", "utf8");
const browser = await puppeteer.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox"] });
let found = 0;
for (const page of process.argv.slice(2)) {
  for (const scheme of ["light", "dark"]) {
    for (const [width, height] of [[1280, 800], [390, 844]]) {
      const tab = await browser.newPage();
      await tab.setViewport({ width, height });
      await tab.emulateMediaFeatures([{ name: "prefers-color-scheme", value: scheme }]);
      await tab.goto(pathToFileURL(page));
      await tab.evaluate(() => document.querySelectorAll("details").forEach((d) => { d.open = true; }));
      await tab.evaluate(axe);
      const { violations } = await tab.evaluate(() => axe.run({ runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"] }));
      for (const v of violations) {
        found += v.nodes.length;
        console.log(`${page}, ${scheme}, ${width} wide: ${v.id}: ${v.help} (${v.nodes.length}): ${v.nodes[0].html.slice(0, 160)}`);
      }
      await tab.close();
    }
  }
}
await browser.close();
console.log(found === 0 ? "nothing found" : `${found} places`);
process.exit(found === 0 ? 0 : 1);
