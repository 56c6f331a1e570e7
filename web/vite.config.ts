import vue from '@vitejs/plugin-vue'
import { BootstrapVueNextResolver } from 'bootstrap-vue-next/resolvers'
import Components from 'unplugin-vue-components/vite'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [
    vue(),
    Components({ dts: 'src/components.d.ts', dirs: ['src/components'], resolvers: [BootstrapVueNextResolver()] }),
  ],
  build: {
    outDir: '../server/page/dist',
    emptyOutDir: true,
    assetsInlineLimit: (file) => (file.endsWith('.woff2') ? false : undefined),
    chunkSizeWarningLimit: 700,
  },
  server: { proxy: { '/api': 'http://127.0.0.1:7070', '/git': 'http://127.0.0.1:7070' } },
})
