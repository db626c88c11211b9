import { useMutation } from "@tanstack/react-query";
import { useSearch } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, queryClient, taken } from "../../api/client";

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
  const send = (event: FormEvent) => {
    event.preventDefault();
    signIn.mutate();
  };
  return (
    <main className="mx-auto mt-24 max-w-sm px-5">
      <h1 className="mb-1 flex items-center gap-2 font-mono text-xl font-bold">
        <img src="/mark.svg" alt="" width="24" height="22" /> outcrop
      </h1>
      <p className="text-faint mb-6">Sign in to see what is failing.</p>
      <form onSubmit={send} className="space-y-4">
        <Field label="E-mail" type="email" value={email} onChange={setEmail} autoComplete="username" />
        <Field
          label="Password"
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="current-password"
        />
        {signIn.isError && (
          <p role="alert" className="border-brick bg-sheet border-l-4 px-3 py-2">
            Not signed in: {signIn.error.message}.
          </p>
        )}
        <button
          type="submit"
          disabled={signIn.isPending}
          className="bg-accent text-on-accent rounded-sm px-4 py-1.5 font-semibold disabled:opacity-60"
        >
          {signIn.isPending ? "Signing in…" : "Sign in"}
        </button>
      </form>
      <p className="text-faint mt-8">
        No account yet? Whoever runs the service makes one:{" "}
        <code className="font-mono text-[13px]">outcrop admin member add</code>
      </p>
    </main>
  );
}

type FieldProps = {
  label: string;
  type: string;
  value: string;
  onChange: (value: string) => void;
  autoComplete: string;
};

export function Field({ label, type, value, onChange, autoComplete }: FieldProps) {
  return (
    <label className="block">
      <span className="mb-1 block font-semibold">{label}</span>
      <input
        type={type}
        required
        value={value}
        autoComplete={autoComplete}
        onChange={(event) => onChange(event.target.value)}
        className="border-line bg-sheet w-full rounded-sm border px-3 py-1.5"
      />
    </label>
  );
}
