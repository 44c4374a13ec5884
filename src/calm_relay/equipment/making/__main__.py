"""Write the shipped cards anew."""

from calm_relay.equipment.making import made_cards, write
from calm_relay.units import count_words

if __name__ == "__main__":
    print(f"{count_words(len(made_cards()), 'card')} written to {write()}")
