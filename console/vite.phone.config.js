import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

/** The page for a phone's browser, which another listener serves below /p/. */
export default defineConfig({
  plugins: [react(), tailwindcss()],
  base: "/p/",
  publicDir: "phone-public",
  worker: { format: "es" },
  build: {
    outDir: "dist/phone",
    rollupOptions: { input: "phone.html" },
    assetsInlineLimit: 0,
    target: "es2022",
    sourcemap: false,
  },
});
