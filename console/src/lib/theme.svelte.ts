// Paper or iron: as the machine prefers, until somebody chooses.

export type Theme = 'machine' | 'paper' | 'iron';

function kept(): Theme {
  try {
    const t = localStorage.getItem('theme');
    return t === 'paper' || t === 'iron' ? t : 'machine';
  } catch {
    return 'machine'; // storage may be forbidden
  }
}

export const theme = $state({ choice: kept() });

export function choose(choice: Theme) {
  theme.choice = choice;
  try {
    localStorage.setItem('theme', choice);
  } catch {
    // it holds until the page is left
  }
  show();
}

export function show() {
  if (theme.choice === 'machine') document.documentElement.removeAttribute('data-theme');
  else document.documentElement.dataset.theme = theme.choice;
}
