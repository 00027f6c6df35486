import { useCallback, useEffect, useState } from 'react';

type Theme = 'light' | 'dark';

const kept = (): Theme | undefined => {
  const value = localStorage.getItem('theme');
  return value === 'light' || value === 'dark' ? value : undefined;
};

/** The theme of the system, unless the user chose one. */
export function useTheme() {
  const [chosen, setChosen] = useState<Theme | undefined>(kept);
  const name = chosen ?? (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light');
  useEffect(() => {
    document.documentElement.dataset.theme = name;
  }, [name]);
  const toggle = useCallback(() => {
    const next = name === 'dark' ? 'light' : 'dark';
    localStorage.setItem('theme', next);
    setChosen(next);
  }, [name]);
  return { name, toggle };
}
