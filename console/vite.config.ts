import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    target: "es2023",
    assetsInlineLimit: 0,
    outDir: "../src/balise/server/web",
    emptyOutDir: true,
    rolldownOptions: {
      output: {
        codeSplitting: {
          groups: [
            { name: "react", test: /node_modules[\\/](react|react-dom|scheduler)[\\/]/ },
            {
              name: "router-query",
              test: /node_modules[\\/](react-router|@tanstack[\\/](react-)?query|openapi-fetch)/,
            },
          ],
        },
      },
    },
  },
  server: { host: "127.0.0.1", proxy: { "/api": "http://127.0.0.1:8808" } },
  test: { environment: "jsdom", globals: true, css: false, include: ["tests/**/*.test.{ts,tsx}"] },
});
