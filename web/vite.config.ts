import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // Into the package: a wheel carries it, and the server finds it wherever it is installed.
  build: {
    outDir: "../tarnfell/web",
    emptyOutDir: true,
    chunkSizeWarningLimit: 700,
    // Whoever tests from a browser may have a slow line, and needs no more than that page.
    rollupOptions: { input: { index: "index.html", test: "test.html" } },
  },
  server: { proxy: { "/api": "http://127.0.0.1:8080" } },
});
