import { svelte } from "@sveltejs/vite-plugin-svelte";
import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vitest/config";

export default defineConfig(({ mode }) => ({
  plugins: [svelte(), tailwindcss()],
  build: { target: "es2022", chunkSizeWarningLimit: 1200 },
  // Components are mounted in tests, as in a browser.
  resolve: mode === "test" ? { conditions: ["browser"] } : {},
  test: { environment: "happy-dom", include: ["src/**/*.test.ts"] },
  server: { proxy: { "/api": { target: "http://127.0.0.1:7700", ws: true } } },
}));
