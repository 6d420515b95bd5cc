import { Workbench } from '../../src/core/kernels/workbench.js';

/** The workbench of the tests of a file. */
export const bench = new Workbench();
