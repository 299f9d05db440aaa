<script lang="ts">
  // Stands in front of everything for who has signed in with a password that was given to them.
  import NewPassword from "./NewPassword.svelte";
  let { password, done, signOut }: { password: string; done: () => void; signOut: () => void } = $props();
</script>

<svelte:head><title>New password · Amber Cellar</title></svelte:head>
<main class="mx-auto flex min-h-screen max-w-sm flex-col justify-center px-4">
  <h1 class="mb-2 text-xl font-semibold">Choose a password of your own</h1>
  <p class="mb-4 text-sm text-gray-600 dark:text-gray-400">
    The one that you were given was for signing in once.
  </p>
  <NewPassword known={password} done={() => done()} />
  <button class="text-link mt-4 self-start text-sm" onclick={signOut}>Sign out</button>
</main>
