/** What one may do, for what is shown of it; the service decides. */
import { useMe } from "../api/people";

/** Whether a grant begins with this word. */
export function useMay(): (word: string) => boolean {
  const { data } = useMe();
  const grants = data?.grants ?? [];
  return (word) => grants.some((grant) => grant === word || grant.startsWith(`${word} `));
}

/** Whether a grant is this word alone, so that nothing is left out of it. */
export function useMayAll(): (word: string) => boolean {
  const { data } = useMe();
  const grants = data?.grants ?? [];
  return (word) => grants.includes(word);
}
