// Stores with the types of one's own collections, as homing generate typescript --library writes them.
import type { Value } from "./core/json.ts";
import type { Ask, DeviceRecord, Found, Store } from "./index.ts";

/** A record of a collection with the types of its fields and of its id. */
export type TypedRecord<Fields, ID> = Omit<DeviceRecord, "id" | "fields"> & {
  readonly id: ID;
  readonly fields: Fields;
};

/** A page of them. */
export type TypedFound<Fields, ID> = Omit<Found, "records"> & { records: TypedRecord<Fields, ID>[] };

/** What a method gives at once in Node, and a promise of in a browser. */
type Given<Mode extends "now" | "later", T> = Mode extends "now" ? T : Promise<T>;

/** Reading and saving with types. Collections, changes and ids are by the name of their collection. */
export interface Typed<Collections, Changes, IDs, Mode extends "now" | "later"> {
  add<N extends Names<Collections, Changes, IDs>>(
    collection: N,
    fields: Changes[N],
    id?: IDs[N],
  ): Given<Mode, TypedRecord<Collections[N], IDs[N]>>;
  edit<N extends Names<Collections, Changes, IDs>>(
    collection: N,
    id: IDs[N],
    fields: Changes[N],
    saw?: TypedRecord<Collections[N], IDs[N]>,
  ): Given<Mode, TypedRecord<Collections[N], IDs[N]>>;
  remove<N extends Names<Collections, Changes, IDs>>(
    collection: N,
    id: IDs[N],
    saw?: TypedRecord<Collections[N], IDs[N]>,
  ): Given<Mode, void>;
  settle<N extends Names<Collections, Changes, IDs>>(
    collection: N,
    id: IDs[N],
    field: string,
    value: Value,
  ): Given<Mode, TypedRecord<Collections[N], IDs[N]>>;
  get<N extends Names<Collections, Changes, IDs>>(
    collection: N,
    id: IDs[N],
  ): Given<Mode, TypedRecord<Collections[N], IDs[N]>>;
  find<N extends Names<Collections, Changes, IDs>>(
    collection: N,
    ask?: Ask,
  ): Given<Mode, TypedFound<Collections[N], IDs[N]>>;
  children<N extends Names<Collections, Changes, IDs>>(
    of: TypedRecord<unknown, unknown>,
    child: N,
    ask?: Ask,
  ): Given<Mode, TypedFound<Collections[N], IDs[N]>>;
}

/** A typed store in a browser also shows lists that stay as they are. */
export interface TypedInBrowser<Collections, Changes, IDs> extends Typed<Collections, Changes, IDs, "later"> {
  live<N extends Names<Collections, Changes, IDs>>(
    collection: N,
    ask: Ask,
    show: (found: TypedFound<Collections[N], IDs[N]>) => void,
  ): () => void;
}

type Names<Collections, Changes, IDs> = keyof Collections & keyof Changes & keyof IDs & string;

/** The same store in Node, with types. */
export function typedHere<Collections, Changes, IDs>(store: Store): Typed<Collections, Changes, IDs, "now"> {
  return store as unknown as Typed<Collections, Changes, IDs, "now">;
}
