import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import type { Plugin } from "vite";
import { defineConfig } from "vitest/config";

/** Puts what asks for a page's first rows before all other code, as an entry of its own: it waits for nothing else. */
const earlyFirst: Plugin = {
  name: "early-first",
  transformIndexHtml: {
    order: "post",
    handler: (_html, { bundle }) => {
      const early = Object.values(bundle ?? {}).find(
        (one) => one.type === "chunk" && one.isEntry && one.name === "early",
      );
      return early
        ? [{ tag: "script", attrs: { type: "module", src: `/${early.fileName}` }, injectTo: "head-prepend" }]
        : [];
    },
  },
};

export default defineConfig({
  plugins: [react(), tailwindcss(), earlyFirst],
  build: {
    target: "es2023",
    assetsInlineLimit: 0,
    outDir: "../src/balise/server/web",
    emptyOutDir: true,
    rolldownOptions: {
      input: { index: "index.html", early: "src/early.ts" },
      output: {
        codeSplitting: {
          groups: [
            { name: "react", test: /node_modules[\\/](react|react-dom|scheduler)[\\/]/ },
            // All that the early entry needs, in one file.
            {
              name: "asks",
              test: /openapi-fetch|src[\\/](api|availability[\\/]presence|fleet[\\/](columns|facts)|lib[\\/](asks|early|first|question|span)\.ts)/,
            },
            { name: "router-query", test: /node_modules[\\/](react-router|@tanstack[\\/](react-)?query)/ },
          ],
        },
      },
    },
  },
  server: { host: "127.0.0.1", proxy: { "/api": "http://127.0.0.1:8808" } },
  test: { environment: "jsdom", globals: true, css: false, include: ["tests/**/*.test.{ts,tsx}"] },
});
