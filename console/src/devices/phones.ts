import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, body, type PhoneAdd, type PhoneNetwork } from "../api";

/** What the keeper asks of phones that hand over. */

const of = (phone: string) => ({ params: { path: { phone } } });

export function usePhones() {
  return useQuery({
    queryKey: ["inbox-phones"],
    queryFn: () => body(api.GET("/api/v1/phones")),
    refetchInterval: 5000,
  });
}

/** Adds a phone, or gives one new keys. */
export function useAddPhone() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (a: PhoneAdd) => body(api.POST("/api/v1/phones", { body: a })),
    onSuccess: () => client.invalidateQueries(),
  });
}

export function useRevokePhone(phone: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: () => body(api.POST("/api/v1/phones/{phone}/revoke", of(phone))),
    onSuccess: () => client.invalidateQueries({ queryKey: ["inbox-phones"] }),
  });
}

/** Puts what is in the holding place into the inbox again. */
export function useTakeBack(phone: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: () => body(api.POST("/api/v1/phones/{phone}/take-back", of(phone))),
    onSuccess: () => client.invalidateQueries({ queryKey: ["inbox-phones"] }),
  });
}

export function usePhoneNetwork() {
  return useQuery({ queryKey: ["phone-network"], queryFn: () => body(api.GET("/api/v1/phone-network")) });
}

export function useSetPhoneNetwork() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (n: PhoneNetwork) => body(api.PUT("/api/v1/phone-network", { body: n })),
    onSuccess: (is) => client.setQueryData(["phone-network"], is),
  });
}
