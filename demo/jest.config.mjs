export default {
  rootDir: import.meta.dirname,
  testEnvironment: 'node',
  extensionsToTreatAsEsm: ['.ts'],
  moduleNameMapper: { '^(\\.{1,2}/.*)\\.js$': '$1' },
  transformIgnorePatterns: ['/node_modules/'],
  transform: { '^.+\\.ts$': ['@swc/jest', { ...{}, configFile: '../.swcrc', module: { type: 'es6' } }] },
  testMatch: ['<rootDir>/src/**/*.test.ts'],
};
