import { useQuery } from '@tanstack/react-query';
import { api, ask, type Schemas } from '../../api/client';
import { Failure, Loading } from '../../parts/Notice';
import rooms from '../common/Rooms.module.css';
import style from './Workflows.module.css';

type Workflow = Schemas['WorkflowView'];

/** The approval paths of the published rulebook, each drawn from its definition. */
export function WorkflowsPage() {
  const list = useQuery({ queryKey: ['rulebook', 'workflows'], queryFn: () => ask(api.GET('/api/v1/workflows')) });
  if (list.isPending) return <Loading what="The workflows" />;
  if (list.isError) return <Failure error={list.error} again={() => void list.refetch()} />;
  return (
    <>
      <header className={rooms.head}>
        <h1>Workflows</h1>
        <p>Which way a request goes, who decides, by when, and what happens when nobody does. Of those that fit, the first counts.</p>
      </header>
      <div className={rooms.stack}>
        {list.data.items.map((w) => (
          <section key={w.name} className={rooms.sheet} aria-labelledby={`w-${w.name}`}>
            <h2 id={`w-${w.name}`}>{w.title}</h2>
            <Flow workflow={w} />
          </section>
        ))}
      </div>
    </>
  );
}

/** One workflow as a graph: from what raises it, over its stages, to what carries it out. */
export function Flow({ workflow: w }: { workflow: Workflow }) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: the graph scrolls sideways, also by keyboard
    <div className={style.flow} role="group" aria-label={`The way of ${w.title}`} tabIndex={0}>
      <div className={`${style.node} ${style.end}`}>
        <h3>{w.for.join(', ')}</h3>
        <small>{w.sources.length > 0 ? `from ${w.sources.map((s) => (s === 'hand' ? 'people' : s)).join(', ')}` : 'from anywhere'}</small>
        {w.when && (
          <small className={style.gate}>
            only when <code>{w.when}</code>
          </small>
        )}
      </div>
      {w.stages.map((stage) => (
        <StageNode key={stage.name} stage={stage} />
      ))}
      <Arrow label="approved" />
      <div className={`${style.node} ${style.end}`}>
        <h3>{w.release === 'automatic' ? 'Carried out at once' : 'Released'}</h3>
        <small>{w.release === 'automatic' ? 'when the last stage approved' : `by ${w.release}`}</small>
        {w.fourEyes && <small className={style.gate}>not by somebody who approved</small>}
      </div>
    </div>
  );
}

function StageNode({ stage: s }: { stage: Schemas['WorkflowStageView'] }) {
  const same = s.otherwise.join() === s.decides.join();
  return (
    <>
      <Arrow />
      <div className={style.node}>
        <h3>{s.title}</h3>
        <span>{s.decides.join(' or ')}</span>
        <small>
          {s.quorum === 'all' ? 'all of them' : Number(s.quorum) > 1 ? `${s.quorum} of them` : 'one is enough'}
          {s.perItem ? ', for each item' : ''}
          {s.inPart ? ', in part too' : ''}
        </small>
        {!same && <small>otherwise {s.otherwise.join(' or ')}</small>}
        {s.when && (
          <small className={style.gate}>
            only when <code>{s.when}</code>
          </small>
        )}
        {s.skips.length > 0 && <small className={style.gate}>not asked when {s.skips.join(' or ')}</small>}
        {s.mayChange.length > 0 && <small className={style.gate}>may change {s.mayChange.join(', ')}</small>}
        {s.deadline && (
          <small className={style.gate}>
            within {span(s.deadline)} of working time{s.remind ? `, reminded every ${span(s.remind)}` : ''}
          </small>
        )}
        {s.escalates.length > 0 && <small>then also {s.escalates.join(' or ')}</small>}
        {s.deadline && s.onSilence !== 'wait' && (
          <small className={style.side}>nobody decides: {s.onSilence === 'decline' ? 'declined' : 'approved'}</small>
        )}
      </div>
    </>
  );
}

function Arrow({ label }: { label?: string }) {
  return (
    <svg
      className={style.arrow}
      viewBox="0 0 42 24"
      width="42"
      height="24"
      role={label ? 'img' : undefined}
      aria-label={label}
      aria-hidden={label ? undefined : true}
    >
      <path d="M3 12h33M30 6l7 6-7 6" fill="none" stroke="currentColor" strokeWidth="2" strokeLinecap="round" strokeLinejoin="round" />
    </svg>
  );
}

/** PT16H as 16 h. */
export function span(iso: string): string {
  const m = /^P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?$/.exec(iso);
  if (!m) return iso;
  const hours = Number(m[1] ?? 0) * 24 + Number(m[2] ?? 0);
  return [hours ? `${hours} h` : '', m[3] ? `${m[3]} min` : '', m[4] ? `${m[4]} s` : ''].filter(Boolean).join(' ');
}
