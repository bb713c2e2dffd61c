import { Link } from "react-router";

import classes from "./RunsPage.module.css";

/** The tags of a run; each leads to all runs that have it. */
export function Tags({ tags }: { tags: string[] }) {
  if (!tags.length) return null;
  return (
    <span className={classes.tags}>
      {tags.map((tag) => (
        <Link
          key={tag}
          to={`/runs?${new URLSearchParams({ tag })}`}
          className={classes.tag}
          title={`all runs with the tag ${tag}`}
          onClick={(event) => event.stopPropagation()}
        >
          {tag}
        </Link>
      ))}
    </span>
  );
}
