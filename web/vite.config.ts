import react from "@vitejs/plugin-react";
import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vite";

// `npx vite` serves the console for work on it and passes the gate's own paths to a gate that runs.
const gate = "http://127.0.0.1:7717";

export default defineConfig({
  base: "./", // so that the console works below any prefix
  plugins: [react(), tailwindcss()],
  server: { proxy: { "/v1": gate, "/gate": gate } },
  build: { target: "es2022", assetsInlineLimit: 0, chunkSizeWarningLimit: 700 },
});
