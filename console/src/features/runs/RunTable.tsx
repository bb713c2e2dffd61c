import { Table } from "@mantine/core";
import { useLocalStorage } from "@mantine/hooks";
import { IconColumns } from "@tabler/icons-react";
import { lazy, Suspense, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";

import type { Run } from "../../api/types";
import frame from "../../components/Frame.module.css";
import { FormButton } from "../../components/FormButton";
import { ShortProgress } from "../../components/RunProgress";
import { State } from "../../components/State";
import { Ago, Took, Until } from "../../components/TimeAgo";
import classes from "./RunsPage.module.css";
import { Tags } from "./Tags";

interface Column {
  label: string;
  /** Whether it is shown where nobody has chosen. */
  usual: boolean;
  number?: boolean;
  faded?: boolean;
  cell: (run: Run) => ReactNode;
}

const COLUMNS: Column[] = [
  {
    label: "Workflow",
    usual: true,
    cell: (run) => (
      <>
        {run.workflow}
        {run.share && <span className={classes.sub}> · {run.share}</span>}
        <Tags tags={run.tags} />
      </>
    ),
  },
  { label: "State", usual: true, cell: (run) => <State state={run.state} /> },
  { label: "Progress", usual: true, cell: (run) => <ShortProgress run={run} /> },
  {
    label: "Attempts",
    usual: true,
    number: true,
    faded: true,
    cell: (run) => (run.attempts ? run.attempts.toLocaleString("en") : "–"),
  },
  {
    label: "Started",
    usual: true,
    faded: true,
    cell: (run) => (
      <>
        {run.state === "scheduled" && run.start_at ? (
          <Until at={run.start_at} />
        ) : (
          <Ago at={run.created_at} />
        )}
        <div className={classes.sub}>
          {run.after ? `by the end of run ${run.after}` : run.started_by}
        </div>
      </>
    ),
  },
  {
    label: "Waited",
    usual: false,
    number: true,
    faded: true,
    cell: (run) => run.started_at && <Took from={run.created_at} to={run.started_at} />,
  },
  {
    label: "Took",
    usual: true,
    number: true,
    faded: true,
    cell: (run) => <Took from={run.started_at} to={run.ended_at} />,
  },
  { label: "Params", usual: false, faded: true, cell: (run) => short(JSON.stringify(run.params)) },
  {
    label: "Error",
    usual: false,
    cell: (run) => run.error && short(run.error.message ?? run.error.type ?? ""),
  },
  { label: "Key", usual: false, faded: true, cell: (run) => short(run.key) },
  { label: "Schedule", usual: false, faded: true, cell: (run) => run.schedule },
  { label: "Priority", usual: false, number: true, faded: true, cell: (run) => run.priority },
  { label: "Round", usual: false, number: true, faded: true, cell: (run) => run.round },
  { label: "Version", usual: false, faded: true, cell: (run) => run.version },
];

const ColumnBoxes = lazy(() => import("./ColumnBoxes"));
const LABELS = COLUMNS.map((one) => one.label);
const USUAL = COLUMNS.filter((one) => one.usual).map((one) => one.label);

/** Which columns this browser shows. */
function useColumns() {
  return useLocalStorage<string[]>({
    key: "yarnloom-run-columns",
    defaultValue: USUAL,
    getInitialValueInEffect: false,
  });
}

/** Where columns are chosen. */
export function ColumnChoice() {
  const [shown, setShown] = useColumns();
  return (
    <FormButton label="Columns" icon={<IconColumns size={15} />} size="sm" width={190}>
      {() => (
        <Suspense>
          <ColumnBoxes labels={LABELS} shown={shown} usual={USUAL} onChange={setShown} />
        </Suspense>
      )}
    </FormButton>
  );
}

/** Runs, with what people compare. */
export function RunTable({ runs }: { runs: Run[] }) {
  const [chosen] = useColumns();
  const columns = COLUMNS.filter(({ label }) => chosen.includes(label));
  return (
    <div className={frame.frame} tabIndex={0} role="region" aria-label="runs">
      <Table highlightOnHover verticalSpacing={7}>
        <Table.Thead>
          <Table.Tr>
            <Table.Th className={frame.number}>Run</Table.Th>
            {columns.map(({ label, number }) => (
              <Table.Th key={label} className={number ? frame.number : undefined}>
                {label}
              </Table.Th>
            ))}
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {runs.map((run) => (
            <RunRow key={run.number} run={run} columns={columns} />
          ))}
        </Table.Tbody>
      </Table>
    </div>
  );
}

function RunRow({ run, columns }: { run: Run; columns: Column[] }) {
  const navigate = useNavigate();
  return (
    <Table.Tr className={classes.row} onClick={() => void navigate(`/runs/${run.number}`)}>
      <Table.Td className={frame.number}>
        <Link to={`/runs/${run.number}`} onClick={(event) => event.stopPropagation()}>
          {run.number}
        </Link>
      </Table.Td>
      {columns.map(({ label, number, faded, cell }) => (
        <Table.Td
          key={label}
          className={[number && frame.number, faded && frame.faded].filter(Boolean).join(" ")}
        >
          {cell(run)}
        </Table.Td>
      ))}
    </Table.Tr>
  );
}

/** A text, cut where it is long; all of it is in its title. */
function short(text: string) {
  return (
    <div className={classes.short} title={text.slice(0, 2_000)}>
      {text.slice(0, 300)}
    </div>
  );
}
