import tailwindcss from '@tailwindcss/vite'
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  base: './', // the service says where the console stands
  plugins: [react(), tailwindcss()],
  build: { outDir: '../internal/console/dist', emptyOutDir: true, chunkSizeWarningLimit: 600, assetsInlineLimit: 0 },
  server: { proxy: { '/v1': 'http://127.0.0.1:6853' } },
})
