import { readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { constants, gzipSync } from "node:zlib";
import { svelte } from "@sveltejs/vite-plugin-svelte";
import tailwindcss from "@tailwindcss/vite";
import { defineConfig, type Plugin } from "vite";

// The service holds scripts and styles compressed, and sends them so.
const compressed: Plugin = {
  name: "compressed",
  apply: "build",
  closeBundle() {
    for (const name of readdirSync("dist/assets")) {
      const path = `dist/assets/${name}`;
      writeFileSync(`${path}.gz`, gzipSync(readFileSync(path), { level: constants.Z_BEST_COMPRESSION }));
      rmSync(path);
    }
  }
};

export default defineConfig({
  plugins: [tailwindcss(), svelte(), compressed],
  build: {
    outDir: "dist",
    emptyOutDir: true,
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
    rolldownOptions: { treeshake: { manualPureFunctions: ["tv"] } } // styles of components that no page uses
  }
});
