import vue from '@vitejs/plugin-vue'
import { ElementPlusResolver } from 'unplugin-vue-components/resolvers'
import Components from 'unplugin-vue-components/vite'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue(), Components({ resolvers: [ElementPlusResolver()], dts: 'src/components.d.ts' })],
  server: { proxy: { '/api': 'http://127.0.0.1:8480' } },
  // The service says in the page what stands before its paths; files find each other from where they are.
  experimental: { renderBuiltUrl: (_, { hostType }) => (hostType === 'html' ? undefined : { relative: true }) },
  build: { chunkSizeWarningLimit: 1200 },
})
