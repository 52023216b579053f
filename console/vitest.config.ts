import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue()],
  // The description of the API lies beside the console.
  server: { fs: { allow: ['..'] } },
  test: {
    environment: 'happy-dom',
    // What is in a frame is not opened: there is no service to ask.
    environmentOptions: { happyDOM: { url: 'http://lark.test/', settings: { disableIframePageLoading: true, handleDisabledFileLoadingAsSuccess: true } } },
    setupFiles: ['tests/service.ts'],
    // Only what hangs gets there.
    testTimeout: 60_000,
    include: ['tests/**/*.test.ts'],
    env: { TZ: 'UTC' },
  },
})
