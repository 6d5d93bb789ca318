export default {
  rootDir: import.meta.dirname,
  testEnvironment: 'node',
  extensionsToTreatAsEsm: ['.ts'],
  moduleNameMapper: { '^(\\.{1,2}/.*)\\.js$': '$1' },
  transform: { '^.+\\.ts$': ['@swc/jest', { configFile: '../.swcrc' }] },
  testMatch: ['<rootDir>/src/**/*.test.ts'],
};
