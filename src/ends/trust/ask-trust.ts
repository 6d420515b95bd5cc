/** What a person is shown of a host whose identity is not known. */
export interface Unknown {
  /** With its port where that is not the usual one. */
  readonly host: string;
  readonly what: 'key' | 'certificate';
  readonly fingerprint: string;
  /** Why a certificate is not accepted. */
  readonly why?: string;
}

/** Asks a person whether a host is the right one. */
export type AskTrust = (unknown: Unknown) => Promise<boolean>;
