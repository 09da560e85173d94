import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [tailwindcss()],
  build: { target: "es2022", chunkSizeWarningLimit: 900, sourcemap: false },
  server: { proxy: { "/api": "http://127.0.0.1:8114" } },
  test: { include: ["src/**/*.test.ts"] },
});
