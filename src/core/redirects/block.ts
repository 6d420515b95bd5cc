import { MarkedBlock } from '../text/marked-block.js';

/** The redirects of a move in a file that others write too. */
export const redirectBlock = new MarkedBlock('redirects of the move');
