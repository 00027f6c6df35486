import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { useState } from 'react';
import { api, ask, type Schemas, type TargetDetail } from '../../api/client';
import { Button } from '../../parts/Button';
import { count } from '../../parts/count';
import { Dialog, DialogActions } from '../../parts/Dialog';
import { Filters, SearchField } from '../../parts/Field';
import { Failure, Loading, Notice } from '../../parts/Notice';
import { at } from '../../parts/when';
import { useMe } from '../../shell/Shell';
import style from '../common/Rooms.module.css';
import own from './Targets.module.css';

const SHOWN = 40;
const FEW = 15;

/** What the target gives by the rulebook, and what it could give. */
export function Gives({ of }: { of: TargetDetail }) {
  const [text, setText] = useState('');
  const [held, setHeld] = useState<string>();
  if (of.entitlements.length === 0 && !of.hasCatalogue) return null;
  const wanted = text.trim().toLowerCase();
  const found = of.entitlements.filter((e) => `${e.title} ${e.name}`.toLowerCase().includes(wanted));
  return (
    <section className={style.sheet} aria-labelledby="gives">
      <h2 id="gives">What it gives</h2>
      {of.hasCatalogue && of.summary.mayOperate && <Catalogue of={of.summary} />}
      {of.entitlements.length > FEW && (
        <Filters>
          <SearchField label={`Find one of ${of.entitlements.length}`} value={text} onChange={setText} />
        </Filters>
      )}
      <table className={style.grants}>
        <thead>
          <tr>
            <th scope="col">Entitlement</th>
            <th scope="col">Kind</th>
            <th scope="col">Held by</th>
          </tr>
        </thead>
        <tbody>
          {found.slice(0, SHOWN).map((e) => (
            <tr key={e.name}>
              <td>
                {e.title} <span className={style.fine}>{e.name}</span>
              </td>
              <td>
                {e.kind}
                {e.shared && <span className={style.fine}> its owners give it too</span>}
              </td>
              <td>
                {e.holders > 0 ? (
                  <button type="button" className={own.link} onClick={() => setHeld(e.name)}>
                    {e.holders}
                  </button>
                ) : (
                  e.holders
                )}
                {e.most && ` of ${e.most}`}
                {e.most && e.holders >= e.most ? <b className={style.bad}> none left</b> : ''}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {found.length > SHOWN && <p className={style.quiet}>{count(found.length - SHOWN, 'more fits', 'more fit')}; narrow it down.</p>}
      {found.length === 0 && <p className={style.quiet}>None has that name.</p>}
      {held && <Holders target={of.summary.name} entitlement={held} close={() => setHeld(undefined)} />}
    </section>
  );
}

/** Who holds it: those first who could give it up. */
function Holders({ target, entitlement, close }: { target: string; entitlement: string; close: () => void }) {
  const list = useQuery({
    meta: { what: 'Who holds it' },
    queryKey: ['targets', 'holders', target, entitlement],
    queryFn: () =>
      ask(api.GET('/api/v1/targets/{name}/entitlements/{entitlement}/holders', { params: { path: { name: target, entitlement } } })),
  });
  const found = list.data;
  const held = `held by ${found?.count}${found?.most ? ` of ${found.most}` : ''}`;
  return (
    <Dialog title={found ? `${found.title}: ${held}` : 'Who holds it'} isOpen close={close}>
      {list.isPending && <Loading what="Who holds it" />}
      {list.isError && <Failure error={list.error} again={() => void list.refetch()} />}
      {found && (
        <div className={own.holders}>
          <table className={style.grants}>
            <thead>
              <tr>
                <th scope="col">Person</th>
                <th scope="col">Why</th>
              </tr>
            </thead>
            <tbody>
              {found.items.map((h) => (
                <tr key={h.personId}>
                  <td>
                    <Link to="/people/$id" params={{ id: h.personId }}>
                      {h.person}
                    </Link>
                    <span className={style.fine}> {h.department}</span>
                  </td>
                  <td>
                    {h.couldGiveUp ? <b>{h.why}</b> : h.why}
                    {h.until && <span className={style.fine}> {at(h.until)}</span>}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <DialogActions>
        <Button onPress={close}>Done</Button>
      </DialogActions>
    </Dialog>
  );
}

/** What it has beside what the rulebook knows. */
function Catalogue({ of }: { of: Schemas['TargetSummary'] }) {
  const read = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/targets/{name}/catalogue', { params: { path: { name: of.name } } })),
  });
  const found = read.data;
  return (
    <>
      <div className={style.actions}>
        <Button isDisabled={read.isPending} onPress={() => read.mutate()}>
          Read what it has
        </Button>
      </div>
      {read.isPending && <Notice title="It is being read." />}
      {read.isError && <Failure error={read.error} />}
      {found && !found.differs && (
        <Notice tone="good" title={`It has ${count(found.entries, 'thing', 'things')} to give, and the rulebook knows all of it.`} />
      )}
      {found?.differs && <Differs of={found} title={of.title} again={() => read.mutate()} />}
    </>
  );
}

function Differs({ of, title, again }: { of: Schemas['TargetCatalogue']; title: string; again: () => void }) {
  const me = useMe();
  const [asks, setAsks] = useState(false);
  const found = `beside edition ${of.edition}: ${of.new.count} new, ${of.changed.count} said otherwise, ${of.gone.count} gone`;
  const parts = [
    { name: 'New', part: of.new },
    { name: 'Said otherwise', part: of.changed },
    { name: 'Gone', part: of.gone },
  ].filter((p) => p.part.count > 0);
  return (
    <>
      <Notice title={`It has ${of.entries} things to give; ${found}.`}>
        {of.unknownOwners.length > 0 && (
          <p>Nobody known has the number of these owners, so what they answer for has none here: {of.unknownOwners.join(', ')}.</p>
        )}
      </Notice>
      {parts.map((p) => (
        <details key={p.name} className={own.earlier} open={p.part.count <= FEW}>
          <summary>
            {p.name}: {p.part.count}
          </summary>
          <table className={style.grants}>
            <tbody>
              {p.part.items.slice(0, SHOWN).map((i) => (
                <Item of={i} key={i.name} />
              ))}
            </tbody>
          </table>
          {p.part.count > SHOWN && <p className={style.quiet}>{count(p.part.count - SHOWN, 'more', 'more')}.</p>}
        </details>
      ))}
      {me.data?.roles.includes('engineer') && (
        <div className={style.actions}>
          <Button kind="main" onPress={() => setAsks(true)}>
            Take it into the rulebook
          </Button>
        </div>
      )}
      {asks && <Publish of={of} title={title} close={() => setAsks(false)} again={again} />}
    </>
  );
}

function Item({ of }: { of: Schemas['CatalogueItem'] }) {
  const held = of.holders > 0 && `${count(of.holders, 'person holds', 'people hold')} it`;
  return (
    <tr>
      <td>
        {of.title} <span className={style.fine}>{of.name}</span>
        {of.description && <div className={style.quiet}>{of.description}</div>}
        {of.before && <div className={style.quiet}>So far: {of.before}</div>}
      </td>
      <td>
        {of.kind}
        {of.owner && <span className={style.fine}> of {of.ownerName ?? of.owner}</span>}
      </td>
      <td>{[held, ...of.uses].filter(Boolean).join('; ')}</td>
    </tr>
  );
}

function Publish({ of, title, close, again }: { of: Schemas['TargetCatalogue']; title: string; close: () => void; again: () => void }) {
  const queries = useQueryClient();
  const publish = useMutation({
    mutationFn: () =>
      ask(api.POST('/api/v1/targets/{name}/catalogue/publish', { params: { path: { name: of.target } }, body: { digest: of.digest } })),
    onSuccess: () => queries.invalidateQueries(),
  });
  const done = publish.data;
  return (
    <Dialog title={`Take what ${title} has into the rulebook?`} isOpen close={close}>
      {done ? (
        <Notice tone="good" title={done.edition ? `Edition ${done.edition.number} is published.` : 'It waits for a second person.'}>
          <p>
            <Link to="/rulebook" search={{ file: `catalogue/${of.target}.yaml`, view: undefined }}>
              See the rulebook
            </Link>
          </p>
        </Notice>
      ) : (
        <p>
          The files <code>catalogue/{of.target}.yaml</code> of the rulebook say it then, as its next edition. Nobody is given or loses
          anything by that: who shall have it, templates and requests say.
        </p>
      )}
      {publish.isError && <Failure error={publish.error} />}
      <DialogActions>
        {done ? (
          <Button
            onPress={() => {
              close();
              again();
            }}
          >
            Done
          </Button>
        ) : (
          <>
            <Button onPress={close}>Not now</Button>
            <Button kind="main" isDisabled={publish.isPending} onPress={() => publish.mutate()}>
              Publish
            </Button>
          </>
        )}
      </DialogActions>
    </Dialog>
  );
}
