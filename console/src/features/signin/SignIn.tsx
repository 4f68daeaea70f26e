import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api } from "../../api/client";
import type { Me } from "../../api/types";
import { space, type } from "../../app/tokens";
import { Button, Field, Muted, Problem } from "../../ui/controls";

const Place = styled.main`
  min-height: 100%;
  display: grid;
  place-items: center;
  padding: ${space.l};
`;

const Form = styled.form`
  display: grid;
  gap: ${space.l};
  width: min(320px, 100%);
  h1 {
    margin: 0;
    font-size: ${type.head};
  }
`;

/** Does something that the service may refuse; what it said, and whether it is still at it. */
function useAsking(act: () => Promise<void>) {
  const [problem, setProblem] = useState<string>();
  const [busy, setBusy] = useState(false);
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setProblem(undefined);
    try {
      await act();
    } catch (e) {
      setProblem((e as Error).message);
      setBusy(false);
    }
  };
  return { problem, busy, submit };
}

/** The way in: by name and password, or first by a code to set one. */
export function SignIn({ onSignedIn }: { onSignedIn: (me: Me) => void }) {
  const [byCode, setByCode] = useState(false);
  const [isSet, setIsSet] = useState(false);
  return (
    <Place>
      {byCode ? (
        <ByCode
          onDone={(done) => {
            setByCode(false);
            setIsSet(done);
          }}
        />
      ) : (
        <ByPassword isSet={isSet} onSignedIn={onSignedIn} onCode={() => setByCode(true)} />
      )}
    </Place>
  );
}

/** What the service says by a word of a sign-on that came to nothing. */
const WORDS: Record<string, string> = {
  away: "The sign-on provider does not answer. Try again, or sign in by name and password.",
  unknown: "You may not sign in so. A person of your name may sign in by password already; ask an administrator.",
  later: "There were too many tries. Wait a minute.",
  refused: "The sign-on was not completed. Begin again.",
};

function ByPassword(props: { isSet: boolean; onSignedIn: (me: Me) => void; onCode: () => void }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const { problem, busy, submit } = useAsking(async () => props.onSignedIn(await api.login(name, password)));
  const offer = useQuery({ queryKey: ["sign-on"], queryFn: api.signOnOffer, retry: false, staleTime: Infinity });
  const [word] = useState(() => new URLSearchParams(window.location.search).get("sign-on") ?? "");
  return (
    <Form onSubmit={submit}>
      <h1>Calvex</h1>
      {WORDS[word] && <Problem>{WORDS[word]}</Problem>}
      {props.isSet && <Muted role="status">The password is set. Sign in with it.</Muted>}
      <Field label="Name" name="name" value={name} onChange={setName} autoFocus />
      <Field label="Password" name="password" kind="password" value={password} onChange={setPassword} />
      {problem && <Problem>{problem}</Problem>}
      <Button type="submit" $chief isDisabled={busy}>
        Sign in
      </Button>
      {offer.data?.label && <Button onPress={() => window.location.assign("/api/sign-on")}>{offer.data.label}</Button>}
      <Button onPress={props.onCode}>Set a password by a code</Button>
      <Muted>The first administrator is called admin; the password was set or printed at the first start.</Muted>
    </Form>
  );
}

function ByCode({ onDone }: { onDone: (done: boolean) => void }) {
  const [code, setCode] = useState("");
  const [password, setPassword] = useState("");
  const [again, setAgain] = useState("");
  const { problem, busy, submit } = useAsking(async () => {
    if (password !== again) throw new Error("The two passwords differ.");
    await api.redeem(code.trim(), password);
    onDone(true);
  });
  return (
    <Form onSubmit={submit}>
      <h1>A password by a code</h1>
      <Field label="Code" name="code" value={code} onChange={setCode} autoFocus mono />
      <Field label="New password" name="password" kind="password" value={password} onChange={setPassword} />
      <Field label="Once more" name="again" kind="password" value={again} onChange={setAgain} />
      {problem && <Problem>{problem}</Problem>}
      <Button type="submit" $chief isDisabled={busy}>
        Set the password
      </Button>
      <Button onPress={() => onDone(false)}>Back</Button>
      <Muted>An administrator gives the code; it is good for a day, and once. Ten characters at least.</Muted>
    </Form>
  );
}
