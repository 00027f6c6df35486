import { Link } from '@tanstack/react-router';
import { Notice } from '../parts/Notice';

export function NotFound() {
  return (
    <main className="page">
      <Notice title="There is no such page">
        The address may be mistyped. <Link to="/inbox">Go to the inbox</Link>.
      </Notice>
    </main>
  );
}
