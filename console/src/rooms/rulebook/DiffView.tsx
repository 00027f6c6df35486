import { useQuery } from '@tanstack/react-query';
import { api, ask, type RulebookFileBody } from '../../api/client';
import { Failure, Loading, Notice } from '../../parts/Notice';
import style from '../common/Rooms.module.css';
import book from './Rulebook.module.css';

const signs: Record<string, string> = { new: '+', gone: '\u2212', same: '' };

/** Lines that changed, with two around them; the places in between are left out. */
export function near<T extends { op: string }>(lines: T[]): (T | null)[] {
  const shown = lines.map((_, i) => lines.slice(Math.max(0, i - 2), i + 3).some((l) => l.op !== 'same'));
  return lines.flatMap((line, i) => (shown[i] ? [line] : shown[i - 1] ? [null] : []));
}

/** What a draft, or an edition that somebody proposes, changes in the published one. */
export function DiffView({ files, proposal }: { files?: RulebookFileBody[]; proposal?: string }) {
  const diff = useQuery({
    queryKey: ['rulebook', 'diff', files ?? proposal],
    queryFn: () =>
      proposal
        ? ask(api.GET('/api/v1/rulebook/diff', { params: { query: { from: 'current', to: proposal } } }))
        : ask(api.POST('/api/v1/rulebook/diff', { body: { files: files ?? [], from: null } })),
  });
  if (diff.isPending) return <Loading what="The difference" />;
  if (diff.isError) return <Failure error={diff.error} again={() => void diff.refetch()} />;
  if (diff.data.files.length === 0)
    return <Notice title={`${proposal ? 'The proposal' : 'The draft'} is the same as ${diff.data.from}.`} />;
  return (
    <div className={style.stack}>
      {diff.data.files.map((file) => (
        <section key={file.path} className={style.sheet} aria-label={file.path}>
          <h2>
            {file.path} <small className={style.quiet}>{`${file.change}: ${file.added} new, ${file.removed} gone`}</small>
          </h2>
          <div className={book.diff}>
            {near(file.lines).map((line, i) =>
              line === null ? (
                // biome-ignore lint/suspicious/noArrayIndexKey: a line is its place
                <div key={i}>
                  <i>⋯</i>
                </div>
              ) : (
                // biome-ignore lint/suspicious/noArrayIndexKey: a line is its place
                <div key={i} className={book[line.op] ?? ''}>
                  <i>{line.before}</i>
                  <i>{line.after}</i>
                  <span>{signs[line.op]}</span>
                  <span>{line.text}</span>
                </div>
              ),
            )}
          </div>
        </section>
      ))}
    </div>
  );
}
