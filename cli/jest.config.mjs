export default {
  rootDir: import.meta.dirname,
  testEnvironment: 'node',
  extensionsToTreatAsEsm: ['.ts'],
  moduleNameMapper: { '^(\\.{1,2}/.*)\\.js$': '$1' },
  transform: { '^.+\\.ts$': ['@swc/jest', { configFile: new URL('../.swcrc', import.meta.url).pathname }] },
  testMatch: ['<rootDir>/src/**/*.test.ts'],
};
