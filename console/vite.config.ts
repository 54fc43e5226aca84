import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vitest/config';

export default defineConfig(({ mode }) => ({
  plugins: [tailwindcss(), svelte()],
  build: {
    outDir: 'dist',
    // public/.keep comes along: it lets the program be built before the console is.
    emptyOutDir: true,
    // A font inlined as data: would be refused by the service's own policy.
    assetsInlineLimit: 0,
    // How long each plugin took is nothing that a build has to say.
    rolldownOptions: { checks: { pluginTimings: false } },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:8321' } },
  test: { environment: 'jsdom', include: ['src/**/*.test.ts'] },
  resolve: mode === 'test' ? { conditions: ['browser'] } : undefined,
}));
