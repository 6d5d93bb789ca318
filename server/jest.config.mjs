export default {
  rootDir: import.meta.dirname,
  testEnvironment: 'node',
  extensionsToTreatAsEsm: ['.ts'],
  moduleNameMapper: { '^(\\.{1,2}/.*)\\.js$': '$1' },
  setupFiles: ['reflect-metadata'],
  transformIgnorePatterns: ['/node_modules/', '/dist/'],
  transform: { '^.+\\.ts$': ['@swc/jest', { configFile: new URL('../.swcrc', import.meta.url).pathname }] },
  testMatch: ['<rootDir>/src/**/*.test.ts'],
  testTimeout: 300_000,
  maxWorkers: 1,
  testSequencer: '<rootDir>/sequencer.mjs',
};
