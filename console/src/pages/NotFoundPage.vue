<template>
  <h1>There is no such page</h1>
  <p class="quiet">Begin at <router-link to="/connect">Connect</router-link>, or find it with the search box.</p>
</template>
