// Loaded only when a place is reached by FTP.
export { Client } from 'basic-ftp';
