export default {
  rootDir: import.meta.dirname,
  testEnvironment: 'node',
  extensionsToTreatAsEsm: ['.ts', '.tsx'],
  moduleNameMapper: { '^(\\.{1,2}/.*)\\.js$': '$1' },
  transform: { '^.+\\.tsx?$': ['@swc/jest', { configFile: '../.swcrc' }] },
  testMatch: ['<rootDir>/src/**/*.test.ts'],
};
