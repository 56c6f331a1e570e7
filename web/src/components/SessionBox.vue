<script setup lang="ts">
// Signing in again where one is: what is on the page stays, and what was asked goes on.
import { useSession } from '../stores/session'

const session = useSession()
</script>

<template>
  <BModal
    :model-value="session.ended"
    title-tag="h2"
    title="Your session has ended"
    no-footer
    no-header-close
    no-close-on-backdrop
    no-close-on-esc
    size="sm"
  >
    <p>Sign in again: what you were doing goes on, and nothing that you typed is lost.</p>
    <SignInForm :handle="session.person?.handle" />
  </BModal>
</template>
