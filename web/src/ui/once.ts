/** A function of a list and a word that works out its value once for each, while the list is held. */
export function onceEach<List extends object, Value>(
  make: (list: List, word: string) => Value,
): (list: List, word?: string) => Value {
  const known = new WeakMap<List, Map<string, Value>>();
  return (list, word = "") => {
    let own = known.get(list);
    if (!own) known.set(list, (own = new Map<string, Value>()));
    let value = own.get(word);
    if (value === undefined) own.set(word, (value = make(list, word)));
    return value;
  };
}
