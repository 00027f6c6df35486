import type { ReactNode } from 'react';
import { Refusal } from '../api/client';
import { Button } from './Button';
import style from './Notice.module.css';

export function Notice({ title, children, tone = 'calm' }: { title: string; children?: ReactNode; tone?: 'calm' | 'bad' | 'good' }) {
  return (
    <div className={`${style.notice} ${style[tone] ?? ''}`} role={tone === 'bad' ? 'alert' : 'status'}>
      <strong>{title}</strong>
      {children && <div>{children}</div>}
    </div>
  );
}

/** A failure in the service's own words, and a way on. */
export function Failure({ error, again }: { error: Error; again?: () => void }) {
  return (
    <Notice title={error instanceof Refusal && error.status === 404 ? 'Not found' : 'This did not work'} tone="bad">
      <p>{error.message}</p>
      {again && <Button onPress={again}>Try again</Button>}
    </Notice>
  );
}

export function Loading({ what }: { what: string }) {
  return (
    <div className={style.loading} role="status">
      <span className="unseen">{what} is loading</span>
      <span className={style.line} />
      <span className={style.line} />
      <span className={style.line} />
    </div>
  );
}
