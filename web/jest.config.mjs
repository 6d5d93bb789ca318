export default {
  rootDir: import.meta.dirname,
  testEnvironment: 'node',
  testTimeout: 60_000,
  extensionsToTreatAsEsm: ['.ts', '.tsx'],
  moduleNameMapper: { '\\.css$': '<rootDir>/jest.style.mjs', '^(\\.{1,2}/.*)\\.js$': '$1' },
  transform: {
    '^.+\\.tsx?$': [
      '@swc/jest',
      {
        swcrc: false,
        jsc: {
          parser: { syntax: 'typescript', tsx: true },
          transform: { react: { runtime: 'automatic' } },
          target: 'es2022',
        },
        module: { type: 'es6' },
        sourceMaps: true,
      },
    ],
  },
  testMatch: ['<rootDir>/src/**/*.test.{ts,tsx}'],
};
