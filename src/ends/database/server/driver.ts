// Large, and loaded only when a server is asked.
export { createConnection } from 'mysql2';
