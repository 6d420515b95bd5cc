// What is used of the package that speaks HTTP, for whoever loads it only when a site is asked.
export { Agent, buildConnector } from 'undici';
