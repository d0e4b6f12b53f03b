import { svelte } from "@sveltejs/vite-plugin-svelte";
import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [svelte(), tailwindcss()],
  build: { target: "es2022", chunkSizeWarningLimit: 1200 },
  server: { proxy: { "/api": { target: "http://127.0.0.1:7700", ws: true } } },
});
