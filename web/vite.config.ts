import { fileURLToPath } from "node:url";

import { transformAsync } from "@babel/core";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { type Plugin, defineConfig } from "vite";

/**
 * Components and hooks that keep what they made until what it was made from changes, by React's own compiler: a page is
 * drawn anew only where it differs. What it cannot compile it leaves as it is.
 */
const compiled: Plugin = {
  name: "nexal:react-compiler",
  enforce: "pre",
  transform: {
    filter: { id: /\/src\/.*\.tsx?$/, code: /\buse[A-Z]|<\/?[A-Za-z]/ },
    async handler(code, id) {
      const result = await transformAsync(code, {
        filename: id,
        babelrc: false,
        configFile: false,
        sourceMaps: true,
        parserOpts: { plugins: ["typescript", "jsx"] },
        plugins: ["babel-plugin-react-compiler"],
      });
      return result?.code ? { code: result.code, map: result.map } : null;
    },
  },
};

export default defineConfig({
  base: "/static/",
  plugins: [compiled, react(), tailwindcss()],
  build: {
    outDir: "dist",
    manifest: "manifest.json",
    rollupOptions: { input: "src/main.tsx" },
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 1200,
  },
  resolve: { alias: { "@": fileURLToPath(new URL("./src", import.meta.url)) } },
  worker: { format: "es" },
  server: { origin: "http://localhost:5173", cors: true },
});
