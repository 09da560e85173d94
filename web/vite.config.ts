import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [tailwindcss()],
  build: {
    target: "es2022",
    chunkSizeWarningLimit: 900,
    rollupOptions: {
      // Libraries mark files for servers that render pages; there is none here.
      onwarn: (warning, warn) => warning.code !== "MODULE_LEVEL_DIRECTIVE" && warn(warning),
    },
  },
  server: { proxy: { "/api": "http://127.0.0.1:8114" } },
});
