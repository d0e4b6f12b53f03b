import { svelte } from "@sveltejs/vite-plugin-svelte";
import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [svelte(), tailwindcss()],
  build: { target: "es2022", chunkSizeWarningLimit: 1200 },
  test: { environment: "happy-dom", include: ["src/**/*.test.ts"] },
  server: { proxy: { "/api": { target: "http://127.0.0.1:7700", ws: true } } },
});
