import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { readFileSync, readdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";
import { defineConfig } from "vite";

/** Files below this many bytes travel in one packet either way. */
const SMALL = 1_000;

/** Writes each built file twice more, compressed as well as can be: the service sends them as they are. */
/** @type {import("vite").Plugin} */
const compressed = {
  name: "compressed",
  apply: "build",
  writeBundle({ dir = "dist" }) {
    const files = readdirSync(dir, { recursive: true, encoding: "utf8" }).map((name) => join(dir, name));
    for (const file of files.filter((name) => /\.(js|css|html|svg)$/.test(name))) {
      const bytes = readFileSync(file);
      if (bytes.length < SMALL) continue;
      const params = { [constants.BROTLI_PARAM_QUALITY]: constants.BROTLI_MAX_QUALITY };
      writeFileSync(`${file}.br`, brotliCompressSync(bytes, { params }));
      writeFileSync(`${file}.gz`, gzipSync(bytes, { level: 9 }));
    }
  },
};

/** The most script a page may need, compressed by gzip, in bytes: the first one with all it loads, each route beside it. */
const BUDGET = { first: 200_000, route: 80_000 };

/** Refuses a build whose pages need more script than the budget: a library crept in, or a chunk lost its border. */
const budgeted = {
  name: "budgeted",
  apply: "build",
  generateBundle(_, bundle) {
    const chunks = Object.values(bundle).filter((file) => file.type === "chunk");
    const size = new Map(chunks.map((chunk) => [chunk.fileName, gzipSync(chunk.code, { level: 9 }).length]));
    const withImports = (name, found = new Set()) => {
      if (found.has(name)) return found;
      found.add(name);
      for (const other of bundle[name].imports) withImports(other, found);
      return found;
    };
    const sum = (names) => names.reduce((bytes, name) => bytes + (size.get(name) ?? 0), 0);
    const entry = chunks.find((chunk) => chunk.isEntry);
    const first = withImports(entry.fileName);
    const check = (what, bytes, most) => {
      if (bytes > most) this.error(`${what} needs ${bytes} bytes of script, compressed; ${most} are allowed`);
    };
    check("the first page", sum([...first]), BUDGET.first);
    for (const name of entry.dynamicImports) {
      const own = [...withImports(name)].filter((other) => !first.has(other));
      check(bundle[name].facadeModuleId ?? name, sum(own), BUDGET.route);
    }
  },
};

export default defineConfig({
  plugins: [react(), tailwindcss(), budgeted, compressed],
  build: { target: "es2022", assetsInlineLimit: 0 },
  server: { proxy: { "/api": "http://127.0.0.1:8471" } },
});
