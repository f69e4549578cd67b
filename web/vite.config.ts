import { svelte } from "@sveltejs/vite-plugin-svelte";
import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vite";

// The service embeds what is built; in development, its address is asked.
export default defineConfig({
  plugins: [tailwindcss(), svelte()],
  build: { outDir: "../internal/service/console/dist", emptyOutDir: true, chunkSizeWarningLimit: 1700 },
  server: {
    proxy: Object.fromEntries(
      // The service compares the page's origin with the host that is asked, so the host stays as it is.
      ["/v1", "/session", "/openapi.json"].map((p) => [
        p,
        { target: process.env.GRAYLOFT_SERVICE ?? "http://127.0.0.1:7420", changeOrigin: false },
      ]),
    ),
  },
});
