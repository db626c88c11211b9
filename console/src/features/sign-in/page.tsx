import { useMutation } from "@tanstack/react-query";
import { useSearch } from "@tanstack/react-router";
import { type SubmitEvent, useState } from "react";
import { api, queryClient, taken } from "../../api/client";
import { Button, Callout, Field, Outside } from "../../ui/kit";

/** The address to go back to, where it lies within the console: browsers read `/\\host` as another site's, and leave out tabs and line ends. */
function within(address: string | undefined): string {
  const here = window.location.origin;
  const url = address?.startsWith("/") && URL.canParse(address, here) ? new URL(address, here) : undefined;
  return url?.origin === here ? url.pathname + url.search + url.hash : "/errors";
}

export function SignInPage() {
  const { q } = useSearch({ from: "/sign-in" });
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/session", { body: { email, password } })),
    onSuccess: () => {
      queryClient.clear();
      // Only an address within the console is gone back to.
      window.location.assign(within(q));
    },
  });
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    signIn.mutate();
  };
  return (
    <Outside>
      <p className="text-faint mb-6">Sign in to see what is failing.</p>
      <form onSubmit={send} className="space-y-4">
        <Field required label="E-mail" type="email" value={email} onChange={setEmail} autoComplete="username" />
        <Field
          required
          label="Password"
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="current-password"
        />
        {signIn.isError && <Callout tone="bad">Not signed in: {signIn.error.message}.</Callout>}
        <Button look="main" type="submit" disabled={signIn.isPending}>
          {signIn.isPending ? "Signing in…" : "Sign in"}
        </Button>
      </form>
      <p className="text-faint mt-8">
        No account yet? An admin invites you on the page People, or adds you with{" "}
        <code className="font-mono text-[13px]">outcrop admin member add</code>.
      </p>
    </Outside>
  );
}
