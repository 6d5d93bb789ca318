const { options } = require('./.dependency-cruiser.cjs');

/** Folders know each other in one direction; what tests know beside that is theirs. */
module.exports = {
  forbidden: [{ name: 'no-rings-of-folders', severity: 'error', scope: 'folder', from: {}, to: { circular: true } }],
  options: {
    ...options,
    exclude: { path: ['\\.test\\.tsx?$', '/testing\\.tsx?$', '/testing-[a-z]+\\.ts$', '/policies/', '-harness\\.ts$'] },
  },
};
