/** The options that every command has. */
export interface Common {
  readonly sheet: string;
  readonly json: boolean;
  readonly jsonEvents: boolean;
  readonly quiet: boolean;
  readonly verbose: boolean;
  readonly yes: boolean;
  readonly color: boolean;
}
