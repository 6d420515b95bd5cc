import type { StepName } from '../../core/journal.js';

/** Whether a keepsake can be restored on what stands now, or why not. */
export type Fit = 'fits' | 'never finished' | 'another site stands';

/**
 * Which site is at the new end. Sites are numbered: 0 is what was there before the first delivery, and each delivery
 * that changes something makes the next. A keepsake holds a whole site, or only what distinguishes one from another.
 */
export class Standing {
  /** Undefined while a step changes it, and after one that was interrupted. */
  private now: number | undefined = 0;
  private last = 0;
  /** The step that changes it, what stood before, the keepsake that is restored, and those that are made. */
  private change:
    | {
        readonly step: StepName;
        readonly from: number | undefined;
        readonly restores: number | undefined;
        /** Whether a keepsake is only a part of a site, by its number. */
        readonly made: Map<number, boolean>;
      }
    | undefined;
  /** What a keepsake gives, and on what it is to be put; undefined where it is whole. */
  private readonly kept = new Map<number, { readonly gives: number; readonly on: number | undefined }>();

  /** @param restores the number of the keepsake that is restored */
  begin(step: StepName, restores: number | undefined): void {
    const { change } = this;
    // The same, done again, resumes; after another step that was interrupted nobody knows what stands.
    if (change?.step === step && change.restores === restores) return;
    this.change = { step, from: this.now, restores, made: new Map() };
    this.now = undefined;
  }

  keep(number: number, isPart: boolean): void {
    this.change?.made.set(number, isPart || this.change.made.get(number) === true);
  }

  end(step: StepName): void {
    const { change } = this;
    if (change?.step !== step) return;
    const restored = change.restores === undefined ? undefined : this.kept.get(change.restores);
    if (step === 'deliver') this.now = ++this.last;
    else this.now = change.restores === undefined ? 0 : restored?.gives;
    const { from } = change;
    // What a part is restored on is kept as a part too.
    if (from !== undefined)
      for (const [number, isPart] of change.made)
        this.kept.set(number, {
          gives: from,
          on: isPart || restored?.on !== undefined ? this.now : undefined,
        });
    this.change = undefined;
  }

  /** Whether a keepsake can be restored now. An interrupted restoration can always be resumed. */
  fits(number: number): Fit {
    if (this.change?.restores === number) return 'fits';
    const kept = this.kept.get(number);
    if (!kept) return 'never finished';
    return kept.on === undefined || kept.on === this.now ? 'fits' : 'another site stands';
  }

  /** Whether the restoration of a keepsake was interrupted. */
  isRestoring(number: number): boolean {
    return this.change?.restores === number;
  }
}
