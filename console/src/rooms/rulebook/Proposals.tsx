import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useNavigate } from '@tanstack/react-router';
import { useState } from 'react';
import { api, ask, type Schemas } from '../../api/client';
import { Button } from '../../parts/Button';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Field } from '../../parts/Field';
import { Failure, Notice } from '../../parts/Notice';
import { agoText } from '../../parts/when';
import style from '../common/Rooms.module.css';
import { DiffView } from './DiffView';
import { hasDraft } from './draft';
import book from './Rulebook.module.css';

/** Editions that wait until another engineer agrees. */
export function Proposals({ edition, take }: { edition: number; take: (proposed: Schemas['ProposalDetail']) => void }) {
  const list = useQuery({
    meta: { what: 'Editions that wait for a second person' },
    queryKey: ['rulebook', 'proposals'],
    queryFn: () => ask(api.GET('/api/v1/rulebook/proposals')),
  });
  if (!list.data || list.data.items.length === 0) return null;
  return (
    <section className={`${style.sheet} ${style.story} ${book.proposals}`} aria-labelledby="proposals">
      <h2 id="proposals">Waits for a second person</h2>
      <ul className={style.list}>
        {list.data.items.map((p) => (
          <Proposal key={p.id} proposal={p} edition={edition} take={take} />
        ))}
      </ul>
    </section>
  );
}

/** One proposed edition: looked at first, then agreed to or declined. */
function Proposal(props: { proposal: Schemas['ProposalView']; edition: number; take: (proposed: Schemas['ProposalDetail']) => void }) {
  const { proposal: p, edition, take } = props;
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [looking, setLooking] = useState(false);
  const [declining, setDeclining] = useState(false);
  const [replacing, setReplacing] = useState(false);
  const [remark, setRemark] = useState('');
  const path = { path: { id: p.id } };
  const decide = useMutation({
    mutationFn: (approve: boolean) => {
      const call = { params: path, body: { remark: remark || null } };
      return approve
        ? ask(api.POST('/api/v1/rulebook/proposals/{id}/approve', call))
        : ask(api.POST('/api/v1/rulebook/proposals/{id}/decline', call));
    },
    onSettled: () => {
      setDeclining(false);
      void queries.invalidateQueries({ queryKey: ['rulebook'] });
    },
  });
  const copy = useMutation({
    mutationFn: () => ask(api.GET('/api/v1/rulebook/proposals/{id}', { params: path })),
    onSuccess: (proposed) => {
      setReplacing(false);
      take(proposed);
      void navigate({ to: '/rulebook', search: { file: undefined, view: 'rehearsal' } });
    },
  });
  const failed = decide.error ?? copy.error;
  const stale = p.base > 0 && p.base !== edition;
  return (
    <li>
      <div className={book.decide}>
        <span>
          by <b>{p.author}</b>, {agoText(p.at)}
          {p.base > 0 && ` over edition ${p.base}`} <span className={style.quiet}>digest {p.digest.slice(0, 12)}</span>
        </span>
        <Button onPress={() => setLooking(!looking)}>{looking ? 'Close' : 'Look at it'}</Button>
        {!p.mayDecide && <span className={style.quiet}>another engineer agrees to it</span>}
      </div>
      {stale && (
        <Notice tone="bad" title={`Edition ${edition} was published since; agreeing would take that back.`}>
          Decline it, and have it proposed anew.
        </Notice>
      )}
      {failed && <Failure error={failed} />}
      {looking && (
        <div className={style.stack}>
          <DiffView proposal={p.id} />
          <div className={style.actions}>
            <Button onPress={() => (hasDraft() ? setReplacing(true) : copy.mutate())} isDisabled={copy.isPending}>
              Check and rehearse it here
            </Button>
            {p.mayDecide && (
              <>
                <Button kind="main" isDisabled={decide.isPending || stale} onPress={() => decide.mutate(true)}>
                  Agree and publish
                </Button>
                <Button kind="grave" onPress={() => setDeclining(true)}>
                  Decline
                </Button>
              </>
            )}
          </div>
        </div>
      )}
      <Dialog title="Replace your draft?" isOpen={replacing} close={() => setReplacing(false)}>
        <p>You have a draft of your own in this browser. The proposal takes its place.</p>
        <DialogActions>
          <Button onPress={() => setReplacing(false)}>Back</Button>
          <Button kind="main" onPress={() => copy.mutate()}>
            Replace it
          </Button>
        </DialogActions>
      </Dialog>
      <Dialog title="Decline this edition?" isOpen={declining} close={() => setDeclining(false)}>
        <Field label="Why" value={remark} onChange={setRemark} required long autoFocus />
        <DialogActions>
          <Button onPress={() => setDeclining(false)}>Back</Button>
          <Button kind="grave" isDisabled={remark.trim().length === 0} onPress={() => decide.mutate(false)}>
            Decline
          </Button>
        </DialogActions>
      </Dialog>
    </li>
  );
}
