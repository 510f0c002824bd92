import { readFileSync, writeFileSync } from "node:fs";

const page = readFileSync("web/index.html", "utf8").replace("/build/app.js", "/app.js");
writeFileSync("dist/index.html", page);
