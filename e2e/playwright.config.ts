import { defineConfig } from '@playwright/test';
import { CHROMIUM } from '../scripts/lib/browser.mjs';

export default defineConfig({
  testDir: '.',
  // Journeys that need a past of weeks are played by `npm run long -- over-time`.
  testIgnore: 'over-time/**',
  outputDir: '../test-results',
  workers: 1,
  timeout: 240_000,
  expect: { timeout: 40_000 },
  reporter: [['list'], ['json']],
  use: {
    baseURL: process.env['OUVRAGE_ADDRESS'] ?? 'http://127.0.0.1:4100',
    viewport: { width: 1280, height: 800 },
    launchOptions: CHROMIUM,
    colorScheme: 'light',
    reducedMotion: 'reduce',
    trace: 'off',
  },
});
