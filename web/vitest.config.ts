import { defineConfig, mergeConfig } from "vitest/config";
import page from "./vite.config";

export default mergeConfig(
  page,
  defineConfig({
    test: {
      include: ["src/**/*.test.{ts,tsx}"],
      setupFiles: ["src/tests/setup.ts"],
      testTimeout: 60_000,
    },
  }),
);
