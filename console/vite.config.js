import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { writeFileSync } from "node:fs";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [
    react(),
    tailwindcss(),
    // The marker that lets the binary be built without the console stays.
    { name: "keep", closeBundle: () => writeFileSync("dist/.keep", "") },
  ],
  // Nothing is inlined: the Content-Security-Policy allows files only.
  // The coasts of the map are the largest: they are fetched with the first map alone.
  build: { chunkSizeWarningLimit: 600, assetsInlineLimit: 0, target: "es2022", sourcemap: false },
});
