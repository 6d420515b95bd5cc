import { readFile, rm } from 'node:fs/promises';
import { dirname, join, resolve } from 'node:path';
import { readSecretsFile, writeSecret } from '../../ends/move-folder/secrets.js';
import { writeWhole } from '../../ends/whole-file.js';
import type { Secrets, StartWish } from './answers.js';

/** What a person has answered so far. */
export interface SavedAnswers {
  readonly wish: StartWish;
  /** Also those that were answered with nothing. */
  readonly answered: readonly (keyof StartWish)[];
}

/** Keeps answers beside the sheet until it is written, and secrets in `.env`. */
export class AnswerStore {
  private readonly file: string;
  private readonly secrets: string;

  constructor(sheetFile: string) {
    const folder = dirname(resolve(sheetFile));
    this.file = join(folder, '.start.json');
    this.secrets = join(folder, '.env');
  }

  /** What an interrupted interview left, with the secrets of `.env`. */
  async read(): Promise<SavedAnswers & { readonly secrets: Secrets }> {
    const text = await readFile(this.file, 'utf8').catch(() => '');
    const secrets = await readSecretsFile(this.secrets);
    try {
      return { ...(JSON.parse(text) as SavedAnswers), secrets };
    } catch {
      return { wish: {}, answered: [], secrets };
    }
  }

  async save(answers: SavedAnswers): Promise<void> {
    await writeWhole(this.file, `${JSON.stringify(answers)}\n`);
  }

  async saveSecret(variable: string, secret: string): Promise<void> {
    await writeSecret(this.secrets, variable, secret);
  }

  /** Forgets the answers; the secrets stay in `.env`. */
  async clear(): Promise<void> {
    await rm(this.file, { force: true });
  }
}
