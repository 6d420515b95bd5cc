// Keeps files and rooms (folders) out of circles; biome.json keeps imports going one way between the floors.
export default {
  forbidden: [
    {
      name: 'circle-of-files',
      comment: 'Move what both files need into a third one.',
      severity: 'error',
      from: {},
      to: { circular: true },
    },
    {
      name: 'circle-of-rooms',
      comment: 'Move what both folders need into one below both.',
      severity: 'error',
      scope: 'folder',
      from: {},
      to: { circular: true },
    },
  ],
  options: {
    // Without @swc/core it cannot read TypeScript, and finds nothing.
    parser: 'swc',
    tsPreCompilationDeps: true,
    includeOnly: '^src/',
    tsConfig: { fileName: 'tsconfig.json' },
    moduleSystems: ['es6'],
  },
};
