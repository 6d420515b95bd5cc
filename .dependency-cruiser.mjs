export default { forbidden: [], options: { parser: 'swc', tsPreCompilationDeps: true, includeOnly: '^src/', tsConfig: {fileName: 'tsconfig.json'}, moduleSystems: ['es6'] } };
