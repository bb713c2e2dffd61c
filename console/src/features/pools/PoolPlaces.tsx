import type { Pool } from "../../api/types";
import classes from "./PoolsPage.module.css";

const MOST_DRAWN = 20;

/** How full a pool is: a peg for each place, filled where it is taken, or a bar for many. */
export function PoolPlaces({ pool }: { pool: Pool }) {
  const { limit, in_use: used } = pool;
  const shared = pool.values.length > 0;
  return (
    <div className={classes.places}>
      {limit !== null && limit > 0 && !shared && (
        <span className={classes.pegs} aria-hidden>
          {limit <= MOST_DRAWN ? (
            Array.from({ length: Math.max(limit, used) }, (_, place) => (
              <i
                key={place}
                data-taken={place < used || undefined}
                data-over={place >= limit || undefined}
              />
            ))
          ) : (
            <b style={{ "--share": Math.min(1, used / limit) } as React.CSSProperties} />
          )}
        </span>
      )}
      <span>
        {limit === null ? `${used}, no limit` : `${used} of ${limit}`}
        {shared && limit !== null && " each"}
      </span>
    </div>
  );
}
