import { Button as AriaButton, type ButtonProps } from 'react-aria-components';
import style from './Button.module.css';

export function Button({ kind = 'plain', ...props }: Omit<ButtonProps, 'className'> & { kind?: 'main' | 'plain' | 'quiet' | 'grave' }) {
  return <AriaButton {...props} className={`${style.button} ${style[kind] ?? ''}`} />;
}
