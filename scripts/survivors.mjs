// Tells the mutants that no test noticed, and the score, from a report of scripts/mutants.sh.
import { readFileSync } from 'node:fs';

const report = JSON.parse(readFileSync(process.argv[2], 'utf8'));
let [found, lives] = [0, 0];
for (const [path, file] of Object.entries(report.files))
  for (const mutant of file.mutants) {
    if (mutant.status === 'Killed' || mutant.status === 'Timeout') found++;
    if (mutant.status !== 'Survived' && mutant.status !== 'NoCoverage') continue;
    lives++;
    const { line } = mutant.location.start;
    const was = file.source.split('\n')[line - 1].trim();
    console.log(`${path.split('/').slice(-2).join('/')}:${line} ${mutant.mutatorName}${mutant.status === 'NoCoverage' ? ' (no test comes here)' : ''}`);
    console.log(`    ${was}\n    ${mutant.replacement.split('\n').map((l) => l.trim()).join(' ').slice(0, 200)}`);
  }
console.log(`${found} of ${found + lives} are found (${((100 * found) / Math.max(1, found + lives)).toFixed(1)} %)`);
