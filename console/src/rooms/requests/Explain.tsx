import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type Explanation } from '../../api/client';
import { Button } from '../../parts/Button';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Choice } from '../../parts/Field';
import { Failure, Loading } from '../../parts/Notice';
import style from '../rulebook/Rulebook.module.css';

/** Opens the answer to "why does she have this, and why does he not?". */
export function ExplainButton(props: { person: string; of?: string; title: string; label?: string }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button kind="quiet" aria-label={`${props.label ?? 'Why?'} ${props.title}`} onPress={() => setOpen(true)}>
        {props.label ?? 'Why?'}
      </Button>
      <Dialog title={props.of ? `Why ${props.title}?` : `Why, and why not: ${props.title}`} isOpen={open} close={() => setOpen(false)} wide>
        {open && <Explained person={props.person} of={props.of} />}
        <DialogActions>
          <Button onPress={() => setOpen(false)}>Close</Button>
        </DialogActions>
      </Dialog>
    </>
  );
}

function Explained({ person, of }: { person: string; of?: string }) {
  const [key, setKey] = useState('');
  const told = useQuery({
    queryKey: ['people', 'explain', person, of],
    queryFn: () => ask(api.GET('/api/v1/people/{id}/explain', { params: { path: { id: person }, query: { of } } })),
  });
  if (told.isPending) return <Loading what="The explanation" />;
  if (told.isError) return <Failure error={told.error} again={() => void told.refetch()} />;
  const all = told.data.explanations;
  const one = of ? all[0] : (all.find((e) => e.key === key) ?? all.find((e) => !e.wanted) ?? all[0]);
  return (
    <div className={style.explained}>
      {!of && (
        <Choice
          label="Account or entitlement"
          value={one?.key ?? ''}
          options={all.map((e): [string, string] => [e.key, `${e.title} (${e.wanted ? 'yes' : 'no'})`])}
          onChange={setKey}
        />
      )}
      {one && <One told={one} edition={told.data.edition} />}
    </div>
  );
}

function One({ told, edition }: { told: Explanation; edition: number }) {
  return (
    <>
      <p className={told.wanted ? style.yes : style.no}>{told.summary}</p>
      <p className={style.soft}>
        By the rules of edition {edition}: {told.wanted ? 'yes' : 'no'}. Held now: {told.held ? 'yes' : 'no'}.
      </p>
      {told.elsewhere && <p>{told.elsewhere}.</p>}
      {told.rules.map((rule) => (
        <section key={rule.place + rule.employment} className={style.rule} aria-label={rule.template}>
          <h3>
            {rule.template} <small>{rule.place}</small>
          </h3>
          <ul>
            {rule.conditions.map((c) => (
              <li key={c.text} className={c.holds ? style.yes : style.no}>
                <span aria-hidden="true">{c.holds ? '\u2713' : '\u2717'}</span>
                <span>
                  <span className="unseen">{c.holds ? 'holds: ' : 'does not hold: '}</span>
                  <code>{c.text}</code>
                  {c.values.length > 0 && <small> where {c.values.map((v) => `${v.name} is “${v.value}”`).join(', ')}</small>}
                </span>
              </li>
            ))}
          </ul>
        </section>
      ))}
    </>
  );
}
