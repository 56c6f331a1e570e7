<script setup lang="ts">
// Signing in again on the same page: its content stays, and the request is repeated.
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
    <p>Sign in again to continue. Your input is kept.</p>
    <SignInForm :username="session.person?.username" />
  </BModal>
</template>
