import { cutoverFindings } from './cutover.js';
import { pageFindings } from './pages.js';
import { redirectFindings } from './redirects.js';
import { siteFindings } from './site.js';
import { stepFindings } from './steps.js';

/** Every finding that a step can make: its levels, what it means, and what to do. docs/findings.md is written from this. */
export const catalogue = {
  ...stepFindings,
  ...pageFindings,
  ...siteFindings,
  ...redirectFindings,
  ...cutoverFindings,
};
