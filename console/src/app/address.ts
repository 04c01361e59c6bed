import { useSearchParams } from 'react-router';

/** What is chosen on a page, as the address holds it, and how to choose otherwise: what is given as undefined or empty is taken out. */
export function useAddress(): [URLSearchParams, (changes: Record<string, string | undefined>) => void] {
  const [params, setParams] = useSearchParams();
  const choose = (changes: Record<string, string | undefined>) =>
    setParams((before) => {
      const after = new URLSearchParams(before);
      for (const [name, value] of Object.entries(changes)) {
        if (value) after.set(name, value);
        else after.delete(name);
      }
      return after;
    });
  return [params, choose];
}
