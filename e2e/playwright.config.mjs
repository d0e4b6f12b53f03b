import { defineConfig } from "@playwright/test";

export default defineConfig({
  testDir: ".",
  outputDir: "results",
  workers: 2,
  timeout: 180_000,
  expect: { timeout: 20_000 },
  // A busy machine can be late once; a test that needs its second try is reported as flaky.
  retries: process.env.CI ? 1 : 0,
  reporter: [["list"]],
  use: {
    actionTimeout: 30_000,
    viewport: { width: 1100, height: 700 },
    launchOptions: {
      executablePath: "/usr/bin/chromium",
      args: [
        "--no-sandbox",
        "--disable-quic",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--use-gl=angle",
        "--use-angle=swiftshader",
        "--enable-unsafe-swiftshader",
      ],
    },
  },
});
