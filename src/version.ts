import ownPackage from '../package.json' with { type: 'json' };

/** The version of this program, as its package says. */
export const { version } = ownPackage;
