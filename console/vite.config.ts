import { fileURLToPath } from "node:url";

import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// `npx vite` serves the console with live reload, in front of a service that runs beside it.
const service = process.env.YARNLOOM_URL ?? "http://127.0.0.1:8471";

export default defineConfig({
  plugins: [react({ jsxImportSource: "visible-text" })],
  resolve: {
    alias: { "visible-text": fileURLToPath(new URL("./src/visible-text", import.meta.url)) },
  },
  build: {
    outDir: "../src/yarnloom/_console",
    emptyOutDir: true,
    // The content policy allows no inlined assets.
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 1_000,
    rolldownOptions: {
      input: ["index.html", "api.html", "link.html", "src/link/follow.ts"],
      // Pages of other sites name it, so its name stays, and it is whole in itself.
      preserveEntrySignatures: "exports-only",
      output: {
        entryFileNames: ({ name }) => (name === "follow" ? "follow.js" : "assets/[name]-[hash].js"),
      },
    },
  },
  worker: { format: "es" },
  server: {
    proxy: { "/api/": { target: service, headers: { host: new URL(service).host } } },
  },
});
