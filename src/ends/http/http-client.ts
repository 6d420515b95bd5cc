// What is used of the package that speaks HTTP, for code that loads it only when a site is asked.
export { Agent, buildConnector } from 'undici';
