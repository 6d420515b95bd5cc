// Large, and loaded only when a server is asked.
export { authPlugins, createConnection } from 'mysql2';
