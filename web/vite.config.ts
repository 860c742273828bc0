import tailwindcss from "@tailwindcss/vite";
import vue from "@vitejs/plugin-vue";
import { defineConfig } from "vite";

const server = process.env.ANTISTASIS_SERVER ?? "http://localhost:8207";

export default defineConfig({
  plugins: [vue(), tailwindcss()],
  server: {
    host: "localhost",
    port: 5173,
    strictPort: true,
    proxy: { "/api": { target: server, changeOrigin: true } },
  },
  // Fonts stay files: a page may not load data URLs as fonts under its content security policy.
  build: { assetsInlineLimit: 0, target: "es2022" },
});
