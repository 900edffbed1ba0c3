import react from "@vitejs/plugin-react";
import tailwindcss from "@tailwindcss/vite";
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";
import { defineConfig, type Plugin } from "vite";

// `npx vite` serves the console for work on it and passes the gate's own paths to a gate that runs.
const gate = "http://127.0.0.1:7717";

/** Puts compressed copies beside the files, for those who take them. Fonts and pictures are compressed already. */
function compressed(): Plugin {
  return {
    name: "compressed",
    apply: "build",
    writeBundle(options) {
      const folder = join(options.dir ?? "dist", "assets");
      for (const name of readdirSync(folder).filter((n) => /\.(js|css|svg)$/.test(n))) {
        const raw = readFileSync(join(folder, name));
        writeFileSync(join(folder, `${name}.gz`), gzipSync(raw, { level: 9 }));
        writeFileSync(join(folder, `${name}.br`), brotliCompressSync(raw, { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } }));
      }
    },
  };
}

export default defineConfig({
  base: "./", // so that the console works below any prefix
  plugins: [react(), tailwindcss(), compressed()],
  server: { proxy: { "/v1": gate, "/gate": gate } },
  build: { target: "es2022", assetsInlineLimit: 0, chunkSizeWarningLimit: 700 },
  worker: { format: "es" },
});
