import { useNavigate } from '@tanstack/react-router';
import { useState } from 'react';
import { Button } from '../parts/Button';
import { Dialog, DialogActions } from '../parts/Dialog';
import { type Key, keysHere, useKeyboard, useKeys } from '../parts/keys';
import style from './Keys.module.css';
import { isSeen, newRequest, sections } from './sections';

/** The keys that every page has, and what ? tells: each key of the page as it is. */
export function Keys({ roles }: { roles: string[] }) {
  const navigate = useNavigate();
  const [told, setTold] = useState<Key[]>();
  useKeyboard();
  useKeys([
    {
      key: '/',
      what: 'Search on this page',
      run: () => {
        const field = document.querySelector<HTMLInputElement>('input[type="search"]');
        field?.focus();
        return field !== null;
      },
    },
    { key: 'n', what: 'New request', run: () => void navigate(newRequest) },
    { key: '?', what: 'The keys of this page', run: () => setTold(keysHere()) },
    ...sections.filter((s) => isSeen(roles, s)).map((s) => ({ key: `g ${s.key}`, what: s.word, run: () => void navigate(s.link) })),
    { key: 'g m', what: 'What is mine', run: () => void navigate({ to: '/me' }) },
  ]);
  return (
    <Dialog title="The keys of this page" isOpen={told !== undefined} close={() => setTold(undefined)}>
      <dl className={style.keys}>
        {told?.map((k) => (
          <div key={k.key}>
            <dt>
              {k.key.split(' ').map((one) => (
                <kbd key={one}>{one}</kbd>
              ))}
            </dt>
            <dd>{k.what}</dd>
          </div>
        ))}
      </dl>
      <DialogActions>
        <Button onPress={() => setTold(undefined)}>Close</Button>
      </DialogActions>
    </Dialog>
  );
}
