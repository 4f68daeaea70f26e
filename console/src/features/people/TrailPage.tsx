import { useInfiniteQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { useSearchParams } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { clock, date, parseNs } from "../../api/time";
import { useZone } from "../../app/zone";
import { Button, Field, Mono, Muted, Problem } from "../../ui/controls";
import { Form, Shown } from "../../ui/form";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { number } from "../../ui/number";
import { linkOf } from "./model";
import { Places } from "./Places";

const Long = styled(Mono)`
  overflow-wrap: anywhere;
`;

const AT_ONCE = 100;

/** The audit trail, the latest first: who did what, what it was before; and whether its links hold. */
export default function TrailPage() {
  const { zone } = useZone();
  const [params, setParams] = useSearchParams();
  const asked = { word: params.get("word") ?? "", who: params.get("who") ?? "" };
  const [word, setWord] = useState(asked.word);
  const [who, setWho] = useState(asked.who);
  const [checked, setChecked] = useState<string>();
  const [problem, setProblem] = useState<string>();
  const trail = useInfiniteQuery({
    queryKey: ["trail", asked.word, asked.who],
    queryFn: ({ signal, pageParam }) => api.trail({ ...asked, limit: AT_ONCE, before: pageParam }, signal),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => (page.length < AT_ONCE ? undefined : page.at(-1)?.id),
  });
  const look = (e: FormEvent) => {
    e.preventDefault();
    setParams(Object.fromEntries(Object.entries({ word, who }).filter(([, value]) => value)), { replace: true });
  };
  const verify = async () => {
    setProblem(undefined);
    setChecked(undefined);
    try {
      const found = await api.verifyTrail();
      if (found.broken) setProblem(`The trail is broken: ${found.broken}. Compare it with a backup.`);
      else setChecked(`All ${number(found.entries)} entries hold.`);
    } catch (e) {
      setProblem((e as Error).message);
    }
  };
  const entries = trail.data?.pages.flat() ?? [];
  const error = problem ?? trail.error?.message;
  return (
    <Page>
      <Places />
      <h1>Audit trail</h1>
      <p>
        <Muted>
          What people, teams and the service did, written with what it changed. Each entry holds the one before it by
          its hash; the ends of the chains stand in the service&apos;s own log every hour.
        </Muted>
      </p>
      {error && <Problem>{error}</Problem>}
      {checked && <Shown role="status">{checked}</Shown>}
      <Form onSubmit={look} aria-label="Look in the trail">
        <div className="grow">
          <Field label="with the words" name="word" value={word} onChange={setWord} optional />
        </div>
        <Field label="by" name="who" value={who} onChange={setWho} optional mono />
        <Button type="submit">look</Button>
        <Button onPress={() => void verify()}>check every link</Button>
      </Form>
      {trail.isSuccess && entries.length === 0 && <Muted>Nothing stands in the trail that fits.</Muted>}
      {entries.length > 0 && (
        <div className="wide" tabIndex={0}>
          <Table aria-label="Audit trail">
            <thead>
              <tr>
                <th scope="col">when</th>
                <th scope="col">who</th>
                <th scope="col">did</th>
                <th scope="col">to what</th>
                <th scope="col">before</th>
              </tr>
            </thead>
            <tbody>
              {entries.map((e) => (
                <tr key={e.id}>
                  <td className="short" title={linkOf(e.link)}>
                    {date(parseNs(e.at), zone)} {clock(parseNs(e.at), zone, 0)}
                  </td>
                  <td>
                    {e.who} {e.token && <Muted>by token {e.token}</Muted>}
                  </td>
                  <td className="short">{e.act}</td>
                  <td>
                    <Long>{e.what}</Long>
                  </td>
                  <td>{e.before && <Long>{e.before}</Long>}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {trail.hasNextPage && (
        <Button onPress={() => void trail.fetchNextPage()} isDisabled={trail.isFetchingNextPage}>
          show earlier ones
        </Button>
      )}
    </Page>
  );
}
