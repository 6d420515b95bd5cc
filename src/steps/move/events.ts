import type { Finding } from '../../core/findings/findings.js';

/** What a step shows while it runs. The terminal decides how it is shown. */
export type StepEvent =
  | {
      readonly type: 'step';
      readonly step: string;
      readonly state: 'began' | 'done' | 'already done' | 'stopped';
    }
  | {
      readonly type: 'progress';
      readonly what: string;
      readonly done: number;
      readonly of: number;
      readonly unit: 'bytes' | 'files' | 'pages' | 'rows' | 'tables';
      /** While files are carried: how many of all. */
      readonly files?: { readonly done: number; readonly of: number };
      /** While it is not known yet how many there are: there are more. */
      readonly more?: boolean;
    }
  | { readonly type: 'message'; readonly text: string }
  | { readonly type: 'finding'; readonly finding: Finding };

export type EventSink = (event: StepEvent) => void;
