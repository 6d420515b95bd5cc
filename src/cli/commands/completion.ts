import yargs from 'yargs';
import { command } from '../program/command.js';

export const completion = command({
  command: 'completion',
  describe: 'Print a script that lets your shell complete commands and options',
  examples: [
    ['completion >> ~/.bashrc', 'complete with the Tab key in bash, from the next shell on'],
    ['completion >> ~/.zshrc', 'the same in zsh'],
    ['completion > ~/.config/fish/completions/able-porter.fish', 'the same in fish'],
  ],
  run: async () => {
    yargs().scriptName('able-porter').showCompletionScript();
  },
});
