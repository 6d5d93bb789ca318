export default {
  rootDir: import.meta.dirname,
  testEnvironment: 'node',
  extensionsToTreatAsEsm: ['.ts'],
  moduleNameMapper: { '^(\\.{1,2}/.*)\\.js$': '$1' },
  transform: { '^.+\\.ts$': ['@swc/jest', { configFile: new URL('../.swcrc', import.meta.url).pathname }] },
  // With --coverage: how many lines of core its own tests reach. What holds only types has none.
  coverageProvider: 'v8',
  collectCoverageFrom: [
    'src/**/*.ts',
    '!src/**/*.test.ts',
    '!src/**/testing.ts',
    '!src/**/index.ts',
    '!src/model/{diagnostic,profile}.ts',
  ],
  coverageReporters: ['text-summary'],
  coverageThreshold: { global: { lines: 85 } },
  testMatch: ['<rootDir>/src/**/*.test.ts'],
};
