import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue()],
  test: { environment: 'happy-dom', include: ['tests/**/*.test.ts'], env: { TZ: 'UTC' } },
})
