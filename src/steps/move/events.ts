import type { Finding } from '../../core/findings/findings.js';

/** What may be done side by side, each with a line of progress of its own. */
export type StreamName = 'files' | 'database' | 'pages' | 'old' | 'new' | 'ahead';

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
      readonly unit: 'bytes' | 'files' | 'pages' | 'rows' | 'tables' | 'servers';
      /** While files are carried: how many of all. */
      readonly files?: { readonly done: number; readonly of: number };
      /** While it is not known yet how many there are: there are more. */
      readonly more?: boolean;
      /** Which of several things it is about that are done side by side. */
      readonly stream?: StreamName;
    }
  | { readonly type: 'message'; readonly text: string }
  | { readonly type: 'finding'; readonly finding: Finding };

export type EventSink = (event: StepEvent) => void;
